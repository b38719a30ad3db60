"""SQLite: the file is opened for reading only, and a trial works on two copies in a temporary
folder.
"""

from __future__ import annotations

import os
import re
import shutil
import sqlite3
import tempfile
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, closing, contextmanager, suppress
from functools import partial
from itertools import count
from pathlib import Path
from typing import Any
from urllib.parse import quote

import sqlalchemy
from sqlalchemy.engine import URL, Connection, Engine
from sqlalchemy.exc import DBAPIError

from askless.core.errors import AskLessError
from askless.core.formatting import size as bytes_in_words
from askless.core.plans import sqlite as reader
from askless.core.plans.tree import Node
from askless.database.driver_query import DriverQuery
from askless.database.preflight import LIMITS
from askless.database.servers import (
    BuiltIndex,
    ConnectionPair,
    Limits,
    Routine,
    ScratchTables,
    Size,
)
from askless.database.servers.sampling import mean_widths
from askless.database.statement_execution import execute, explain

FOLDER = "askless-trial-"
_LIMIT = "askless_statement_s"
_numbers = count()
_STEPS = 100  # the machine's instructions between two counts
_LOOK_AT_CLOCK = 100_000  # and between two looks at the clock


def file_of(url: URL) -> Path:
    """The file of an SQLite database. Raises AskLessError database-missing."""
    path = Path(url.database or "")
    if not path.is_file():
        raise AskLessError(
            "database-missing", f"there is no database file at {path}", "check the path in --db"
        )
    return path


def _mode(path: Path) -> str:
    """How to open a file so that nothing is left next to it.

    Anyone who reads in WAL mode makes the files of the log, and only who may write takes them away
    again. Where there is no log yet there is nothing that could be written to the database then.
    """
    with suppress(OSError), path.open("rb") as file:
        logged = file.read(20)[18:20] == b"\x02\x02"
        if logged and not Path(f"{path}-wal").exists() and os.access(path, os.W_OK):
            return "rw"
    return "ro"


_UNIQUE = """
SELECT t.name, l.name, x.name FROM sqlite_schema AS t, pragma_index_list(t.name) AS l, pragma_index_info(l.name) AS x
WHERE t.type = 'table' AND l.origin = 'u' ORDER BY t.name, l.name, x.seqno
"""
_KINDS = """
SELECT t.name, l.name, max(x."desc"), max(x.coll <> 'BINARY') FROM sqlite_schema AS t, pragma_index_list(t.name) AS l,
pragma_index_xinfo(l.name) AS x WHERE t.type = 'table' AND x."key" = 1 GROUP BY 1, 2
"""


class Guard:
    """What SQLite asks while it prepares a statement; while it is entered, all but reads and
    EXPLAINs is denied.

    Without, statements are our own. `functions` are the names of those that were asked for.
    """

    def __init__(self) -> None:
        self.functions: set[str] = set()
        self._entered = 0

    def __enter__(self) -> None:
        self._entered += 1

    def __exit__(self, *_: object) -> None:
        self._entered -= 1

    def allows(
        self,
        action: int,
        first: str | None,
        second: str | None,
        _database: str | None,
        _within: str | None,
    ) -> int:
        """The answer to SQLite; see its list of authorizer action codes for `first` and
        `second`.
        """
        if not self._entered or action in _READS:
            return sqlite3.SQLITE_OK
        if action == sqlite3.SQLITE_FUNCTION:
            self.functions.add(str(second).lower())
            return sqlite3.SQLITE_OK
        if action == sqlite3.SQLITE_PRAGMA and (first, second is None) in _READING_PRAGMAS:
            return sqlite3.SQLITE_OK
        return sqlite3.SQLITE_DENY


# What an EXPLAIN may name is run by no one: the file is opened for reading, and query_only can't be
# undone from here.
_READS = (
    sqlite3.SQLITE_SELECT, sqlite3.SQLITE_READ, sqlite3.SQLITE_RECURSIVE, sqlite3.SQLITE_INSERT,
    sqlite3.SQLITE_UPDATE, sqlite3.SQLITE_DELETE,
)  # fmt: skip
# A full-text index asks the first of the file by itself; functions like pragma_table_info ask the others.
_READING_PRAGMAS = frozenset(
    {
        ("data_version", True),
        ("database_list", True),
        ("collation_list", True),
        ("compile_options", True),
        ("table_list", True),
    }
    | {
        (f"{name}_{what}", False)
        for name in ("table", "index")
        for what in ("info", "xinfo", "list")
    }
    | {("foreign_key_list", False)}
)
_HARMFUL = frozenset({"load_extension", "writefile", "readfile", "edit", "fts3_tokenizer"})
_GUARD = "askless_guard"


class Sqlite:
    """See the module."""

    paramstyle = "qmark"
    builds_in_place = False
    estimates_well = False

    def check(self, url: URL) -> None:
        """The file must be there: opening it would make one."""
        file_of(url)

    def engine(self, url: URL, limits: Limits) -> Engine:
        """An engine on the file, without the right to write."""
        path = file_of(url).resolve()
        uri = f"sqlite:///file:{quote(str(path))}?mode={_mode(path)}&uri=true"
        return sqlalchemy.create_engine(
            uri, poolclass=sqlalchemy.pool.NullPool, connect_args={"timeout": limits.lock_s}
        )

    def begin(self, connection: Connection, limits: Limits, write: bool = False) -> None:
        """Look whether it is a database at all; stop statements that run too long."""
        connection.exec_driver_sql("PRAGMA query_only = ON")
        connection.exec_driver_sql("SELECT name FROM sqlite_schema LIMIT 1").all()
        raw: Any = connection.connection.driver_connection
        connection.info[_LIMIT], connection.info[LIMITS] = limits.statement_s, limits
        guard = connection.info[_GUARD] = Guard()
        raw.set_authorizer(guard.allows)
        _limited(raw, limits.statement_s)

    def abandon(self, engine: Engine, known: Mapping[str, Any]) -> None:
        """It runs in this process, and has stopped with it."""

    def system(self, connection: Connection) -> str:
        """Always sqlite."""
        return "sqlite"

    def sizes(self, connection: Connection, columns: dict[str, list[str]]) -> dict[str, Size]:
        """SQLite keeps no count: rows are counted, from the smallest index there is; widths are
        those of first rows.
        """
        quoted = connection.dialect.identifier_preparer.quote
        results = {}
        for table, names in columns.items():
            rows = int(
                connection.exec_driver_sql(f"SELECT COUNT(*) FROM {quoted(table)}").scalar_one()  # noqa: S608  (quoted)
            )
            widths = mean_widths(connection, table, names, "LENGTH(CAST({} AS BLOB))")
            results[table] = Size(
                rows, int(rows * (sum(widths.values()) + 2 * len(widths) + 8)), widths
            )
        return results

    def routines(
        self,
        connection: Connection,
        query: DriverQuery,
        trusted: Sequence[str],
        runs: bool,
        types: Sequence[str] = (),
    ) -> list[Routine]:
        """What loads code or reads and writes files, where someone has brought it in; SQLite names
        all that it would call.
        """
        guard: Guard = connection.info[_GUARD]
        guard.functions.clear()
        with guard:
            raw: Any = connection.connection.driver_connection
            cursor = raw.cursor()
            try:  # prepared, which asks the guard; an EXPLAIN runs nothing
                cursor.execute(_explain_prefix() + query.sql, query.arguments)
            except sqlite3.Error as error:
                raise DBAPIError.instance(query.sql, None, error, sqlite3.Error) from error
            finally:
                cursor.close()
        harmful = sorted(guard.functions & _HARMFUL - set(trusted))
        return [Routine(name, "which has effects outside of the database") for name in harmful]

    def index_routines(
        self, connection: Connection, ddl: str, trusted: Sequence[str]
    ) -> list[Routine]:
        """None: it is built on a copy, and what is not deterministic is refused there."""
        return []

    def copy_routines(
        self, connection: Connection, tables: Sequence[str], trusted: Sequence[str]
    ) -> list[Routine]:
        """None: the file is copied as it is."""
        return []

    def only_reads(self, connection: Connection) -> AbstractContextManager[Any]:
        """SQLite asks the guard of the connection about each thing that a statement would do,
        before it does any.
        """
        guard: Guard = connection.info[_GUARD]
        return guard

    def kinds(self, connection: Connection) -> dict[tuple[str, str], str]:
        """By order and collation, of each column that belongs to the index itself."""
        results = {}
        for table, index, descending, collated in connection.exec_driver_sql(_KINDS):
            results[table, index] = "descending" if descending else "collation" if collated else ""
        return results

    def unique_keys(self, connection: Connection) -> dict[str, list[tuple[str, ...]]]:
        """By the indexes that SQLite makes for them: it keeps no names of constraints."""
        keys: dict[tuple[str, str], list[str]] = {}
        for table, index, column in connection.exec_driver_sql(_UNIQUE):
            keys.setdefault((table, index), []).append(column)
        results: dict[str, list[tuple[str, ...]]] = {}
        for (table, _), columns in keys.items():
            results.setdefault(table, []).append(tuple(columns))
        return results

    def partitions(self, connection: Connection) -> dict[str, tuple[tuple[str, ...], int]]:
        """None."""
        return {}

    def extensions(self, connection: Connection) -> tuple[str, ...]:
        """None."""
        return ()

    def explain(
        self, connection: Connection, query: DriverQuery, names: dict[str, str], analyze: bool
    ) -> tuple[Node, ...]:
        """EXPLAIN QUERY PLAN: the statement itself is not run."""
        if analyze:
            raise AskLessError(
                "no-analyze",
                "SQLite does not measure the steps of a plan",
                "omit --analyze; use trial to measure times",
            )
        # Unlike other statements, an EXPLAIN in the driver's cache does not notice that the schema
        # has changed: each has a text of its own. Nor does it look for a new schema by itself; any
        # read does.
        connection.exec_driver_sql("SELECT count(*) FROM sqlite_schema").all()
        return tuple(reader.read(explain(connection, query, _explain_prefix()), names))

    def generic_plan(self, connection: Connection, query: DriverQuery) -> tuple[Node, ...]:
        """SQLite plans a statement once, without its values."""
        return ()

    def planning_ms(self, connection: Connection, query: DriverQuery) -> float | None:
        """It does not tell."""
        return None

    def work(self, connection: Connection, query: DriverQuery) -> tuple[str, int] | None:
        """Instructions of SQLite's own machine, counted by the hundred."""
        raw: Any = connection.connection.driver_connection
        counted, began = 0, time.monotonic()

        def step() -> int:
            nonlocal counted
            counted += _STEPS
            return int(
                counted % _LOOK_AT_CLOCK == 0 and time.monotonic() - began > connection.info[_LIMIT]
            )

        raw.set_progress_handler(step, _STEPS)
        try:
            execute(connection, query)
        finally:
            _limited(raw, connection.info[_LIMIT])
        return "machine steps", max(counted, _STEPS)

    def busy(self, connection: Connection, tables: Sequence[str]) -> str:
        """No one is disturbed: trials work on copies."""
        return ""

    def allow_copies(self, connection: Connection) -> None:
        """A read-only file may have temporary tables next to it."""
        # the file itself was opened for reading
        connection.exec_driver_sql("PRAGMA query_only = OFF")

    def live_name(self, connection: Connection, table: str) -> str:
        """In the schema of the file."""
        return "main." + connection.dialect.identifier_preparer.quote(table)

    @contextmanager
    def twins(
        self, url: URL, limits: Limits, ddl: str, tables: Sequence[str], table: str
    ) -> Iterator[ConnectionPair]:
        """Two copies of the file, one with the index."""
        cleaned = tuple(clean_folders())
        with tempfile.TemporaryDirectory(prefix=f"{FOLDER}{os.getpid()}-") as folder:
            plain, indexed = Path(folder) / "plain.db", Path(folder) / "indexed.db"
            _copy(url, plain, limits)
            shutil.copyfile(plain, indexed)
            engines = [
                self.engine(URL.create("sqlite", database=str(path)), limits)
                for path in (plain, indexed)
            ]
            with engines[0].connect() as before, engines[1].connect() as after:
                for connection in (before, after):
                    self.begin(connection, limits)

                yield ConnectionPair(
                    before, after, partial(_build, indexed, ddl), "on a copy", cleaned
                )

    @contextmanager
    def workshop(self, url: URL, limits: Limits, tables: Sequence[str]) -> Iterator[ScratchTables]:
        """A copy of the file."""
        cleaned = tuple(clean_folders())
        with tempfile.TemporaryDirectory(prefix=f"{FOLDER}{os.getpid()}-") as folder:
            path = Path(folder) / "indexed.db"
            _copy(url, path, limits)
            with self.engine(
                URL.create("sqlite", database=str(path)), limits
            ).connect() as connection:
                self.begin(connection, limits)

                def run(ddl: str) -> None:
                    connection.rollback()  # an open transaction would keep the copy locked
                    _build(path, ddl)
                    self.begin(connection, limits)

                yield ScratchTables(connection, run, "on a copy", cleaned)


def _explain_prefix() -> str:
    """What is before a statement that is explained, another one each time: see `explain`."""
    return f"EXPLAIN /* {next(_numbers)} */ QUERY PLAN "


def clean_folders() -> list[str]:
    """Remove the folders of trials whose process is gone."""
    gone = []
    for folder in Path(tempfile.gettempdir()).glob(FOLDER + "*-*"):
        match = re.match(rf"{FOLDER}(\d+)-", folder.name)
        if match and not _lives(int(match[1])):
            shutil.rmtree(folder, ignore_errors=True)
            gone.append(f"the copies in {folder}")
    return gone


def _lives(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def _limited(raw: Any, seconds: float) -> None:
    """Let a statement end after so many seconds. What counts is the time since the last statement
    began.
    """
    began = time.monotonic()
    if not hasattr(raw, "set_trace_callback"):
        return

    def start(statement: str) -> None:
        nonlocal began
        began = time.monotonic()

    raw.set_trace_callback(start)
    raw.set_progress_handler(lambda: int(time.monotonic() - began > seconds), _LOOK_AT_CLOCK)


def _copy(url: URL, target: Path, limits: Limits) -> None:
    source = file_of(url)
    bytes_ = source.stat().st_size
    if bytes_ > limits.table_bytes and not limits.allow_large:
        raise AskLessError(
            "too-large",
            f"{source} has {bytes_in_words(bytes_)}: a trial copies it twice",
            "use --allow-large to allow that",
        )
    if bytes_ * 2.5 > shutil.disk_usage(target.parent).free:
        raise AskLessError(
            "disk-full",
            f"a trial needs two copies of {source} ({bytes_in_words(bytes_)} each) in "
            f"{target.parent}",
            "set TMPDIR to a folder with more space",
        )
    uri = f"file:{quote(str(source.resolve()))}?mode={_mode(source)}"
    with (
        closing(sqlite3.connect(uri, uri=True)) as original,
        closing(sqlite3.connect(target)) as copy,
    ):
        original.backup(copy)


def _build(path: Path, ddl: str) -> BuiltIndex:
    """Create the index. Its size is what the file grew by."""
    with closing(sqlite3.connect(path, isolation_level=None)) as connection:
        before = _used_bytes(connection)
        start = time.perf_counter()
        try:
            connection.execute(ddl)
        except sqlite3.Error as error:
            raise AskLessError(
                "index-refused",
                f"the index can't be built: {error}",
                "check table and column names",
            ) from None
        return BuiltIndex((time.perf_counter() - start) * 1e3, _used_bytes(connection) - before)


def _used_bytes(connection: sqlite3.Connection) -> int:
    pages, free, size = (
        int(connection.execute(f"PRAGMA {name}").fetchone()[0])
        for name in ("page_count", "freelist_count", "page_size")
    )
    return (pages - free) * size


SERVER = Sqlite()
