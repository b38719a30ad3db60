"""MariaDB and MySQL: reads in a read-only transaction; an index is tried on copies of the tables in
scratch schemas.
"""

from __future__ import annotations

import os
import re
import secrets
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager, nullcontext, suppress
from pathlib import Path
from typing import Any

import msgspec
import sqlalchemy
from sqlalchemy.engine import URL, Connection, Engine
from sqlalchemy.exc import DBAPIError

from askless.core.errors import AskLessError
from askless.core.formatting import size as bytes_in_words
from askless.core.plans import checked, mysql as reader, mysql_tree
from askless.core.plans.tree import WRITE, Node
from askless.core.sql.changed_rows import select_of
from askless.core.sql.statements import refuse_hidden
from askless.database.driver_query import DriverQuery
from askless.database.preflight import LIMITS, refuse
from askless.database.servers import (
    BuiltIndex,
    ConnectionPair,
    Limits,
    Routine,
    ScratchTables,
    Size,
)
from askless.database.servers.inspector import close_inspectors, inspector
from askless.database.servers.mariadb_dependencies import foreign_tables, routines_of
from askless.database.servers.sampling import mean_widths
from askless.database.statement_execution import execute, explain

WRITTEN = "planned as the SELECT that finds its rows"
SCRATCH = "askless_scratch_"
_SESSION = "askless_session"
_COPY_FACTOR = 20  # copying may take so many times a statement's limit
_COUNT_MOST = 100_000  # below this the server's estimate of rows is checked by counting
_SIZES = """
SELECT table_name, table_rows, data_length FROM information_schema.tables
WHERE table_schema = DATABASE() AND table_type LIKE 'BASE%%'
"""
_COLUMNS = """
SELECT c.table_name, c.column_name FROM information_schema.columns c
JOIN information_schema.tables t ON t.table_schema = c.table_schema AND t.table_name = c.table_name
WHERE t.table_schema = DATABASE() AND t.table_type LIKE 'BASE%%'
"""
_KINDS = """
SELECT table_name, index_name, index_type, sub_part, collation FROM information_schema.statistics
WHERE table_schema = DATABASE()
"""
_PARTITIONS = """
SELECT table_name, MAX(partition_expression), COUNT(DISTINCT partition_name) FROM information_schema.partitions
WHERE table_schema = DATABASE() AND partition_name IS NOT NULL GROUP BY table_name
"""
_PROCESSES = """
SELECT id, user, info FROM information_schema.processlist
WHERE id <> CONNECTION_ID() AND command <> 'Sleep' AND db = DATABASE() AND info IS NOT NULL
"""
_TRANSACTIONS = """
SELECT trx_mysql_thread_id FROM information_schema.innodb_trx
WHERE trx_mysql_thread_id NOT IN (0, CONNECTION_ID()) AND (trx_tables_locked > 0 OR trx_rows_modified > 0)
"""


def option_file() -> Path | None:
    """The file in which MariaDB's own clients keep a password."""
    result = Path.home() / ".my.cnf"
    return result if result.is_file() else None


class MariaDB:
    """See the module."""

    paramstyle = "format"
    builds_in_place = False
    estimates_well = False

    def check(self, url: URL) -> None:
        """Only the server can tell."""

    def engine(self, url: URL, limits: Limits) -> Engine:
        """Whatever driver the application's URL names, ours is PyMySQL."""
        import pymysql  # noqa: F401

        # The server refuses a second statement in a text, whatever the URL asks for.
        arguments: dict[str, Any] = {
            "connect_timeout": max(int(limits.connect_s), 1),
            "client_flag": 0,
        }
        file = option_file()
        password = url.password or os.environ.get("MYSQL_PWD")
        if not password and file is not None:
            arguments["read_default_file"] = str(file)
        if password and not url.password:
            arguments["password"] = password
        engine = sqlalchemy.create_engine(
            url.set(drivername="mysql+pymysql"),
            poolclass=sqlalchemy.pool.NullPool,
            connect_args=arguments,
        )
        close_inspectors(engine)
        return engine

    def begin(self, connection: Connection, limits: Limits, write: bool = False) -> None:
        """One transaction; the limits end with the session."""
        run = connection.exec_driver_sql
        connection.info[_SESSION], connection.info[LIMITS] = _session(connection), limits
        if self._is_mariadb(connection):
            run(f"SET SESSION max_statement_time = {limits.statement_s}")
        else:
            run(f"SET SESSION max_execution_time = {int(limits.statement_s * 1000)}")
        wait = max(int(limits.lock_s), 1)
        run(f"SET SESSION lock_wait_timeout = {wait}, innodb_lock_wait_timeout = {wait}")
        run("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        run("START TRANSACTION" + ("" if write else " READ ONLY"))

    def abandon(self, engine: Engine, known: Mapping[str, Any]) -> None:
        """The server goes on with a statement whose client is gone: it is ended over a connection
        of its own.
        """
        with suppress(DBAPIError), engine.connect() as other:
            _end(other, known[_SESSION])

    def _is_mariadb(self, connection: Connection) -> bool:
        return bool(getattr(connection.dialect, "is_mariadb", True))

    def system(self, connection: Connection) -> str:
        """mariadb or mysql, as the server says."""
        return "mariadb" if self._is_mariadb(connection) else "mysql"

    def sizes(self, connection: Connection, columns: dict[str, list[str]]) -> dict[str, Size]:
        """The server's estimate of rows; it keeps no widths, so they are taken from the first
        rows.
        """
        quoted = connection.dialect.identifier_preparer.quote
        results = {}
        for table, rows, size in connection.exec_driver_sql(_SIZES).all():
            names = columns.get(table)
            if names is None:
                continue
            if (rows or 0) < _COUNT_MOST:
                rows = connection.exec_driver_sql(
                    f"SELECT COUNT(*) FROM {quoted(table)}"  # noqa: S608  (quoted)
                ).scalar_one()
            widths = mean_widths(connection, table, names, "LENGTH({})")
            # The server's figures lag after a load: a table is never smaller than its values.
            results[table] = Size(
                int(rows or 0), max(int(size or 0), int((rows or 0) * sum(widths.values()))), widths
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
        """Whatever the statement, and each view that it may read, could name in the catalogs of the
        server.
        """
        refuse_hidden(query.sql, query.system)
        return routines_of(self._inspector(connection), query.sql, trusted, runs)

    def index_routines(
        self, connection: Connection, ddl: str, trusted: Sequence[str]
    ) -> list[Routine]:
        """None: a server of MySQL's kind lets no stored function into an index."""
        return []

    def copy_routines(
        self, connection: Connection, tables: Sequence[str], trusted: Sequence[str]
    ) -> list[Routine]:
        """Tables whose rows are elsewhere."""
        return foreign_tables(self._inspector(connection), tables, trusted)

    def _inspector(self, connection: Connection) -> Connection:
        """Not the connection itself: anyone who has read the server's own tables can make no
        savepoint any more.
        """
        limits: Limits = connection.info.get(LIMITS) or Limits()

        def open_session() -> Connection:
            session = self.engine(connection.engine.url, limits).connect()
            return session.execution_options(isolation_level="AUTOCOMMIT")

        return inspector(connection, open_session)

    def only_reads(self, connection: Connection) -> AbstractContextManager[Any]:
        """Its transaction is read-only from its beginning."""
        return nullcontext()

    def kinds(self, connection: Connection) -> dict[tuple[str, str], str]:
        """By type, prefix lengths and order."""
        results: dict[tuple[str, str], str] = {}
        for table, index, method, prefix, order in connection.exec_driver_sql(_KINDS):
            kind = "prefix" if prefix else "descending" if order == "D" else ""
            results[table, index] = (
                method.lower() if method.upper() != "BTREE" else results.get((table, index)) or kind
            )
        return results

    def unique_keys(self, connection: Connection) -> dict[str, list[tuple[str, ...]]]:
        """Reflection finds them."""
        return {}

    def partitions(self, connection: Connection) -> dict[str, tuple[tuple[str, ...], int]]:
        """By the columns that the catalog names in the partition's expression."""
        results = {}
        for table, expression, count in connection.exec_driver_sql(_PARTITIONS):
            columns = re.findall(r"`([^`]+)`", expression or "")
            results[table] = (tuple(dict.fromkeys(columns)), int(count))
        return results

    def extensions(self, connection: Connection) -> tuple[str, ...]:
        """None."""
        return ()

    def explain(
        self, connection: Connection, query: DriverQuery, names: dict[str, str], analyze: bool
    ) -> tuple[Node, ...]:
        """EXPLAIN, or ANALYZE, as JSON; MySQL measures in its tree form only."""
        if analyze and not self._is_mariadb(connection):
            rows = explain(connection, query, "EXPLAIN ANALYZE ", runs=True)
            return checked(mysql_tree.read_tree, "\n".join(str(row[0]) for row in rows))
        # a write can't be explained in a transaction that only reads
        select = None if analyze else select_of(query.sql, "mysql")
        if select is not None:
            query = msgspec.structs.replace(query, sql=select)
        words = "ANALYZE FORMAT=JSON " if analyze else "EXPLAIN FORMAT=JSON "
        text = str(explain(connection, query, words, runs=analyze)[0][0])
        read = mysql_tree.read_json if mysql_tree.is_json(text) else reader.read_json
        plan = checked(read, text)
        return plan if select is None else (Node(WRITE, WRITTEN, children=plan),)

    def generic_plan(self, connection: Connection, query: DriverQuery) -> tuple[Node, ...]:
        """A prepared statement is planned at each execution."""
        return ()

    def planning_ms(self, connection: Connection, query: DriverQuery) -> float | None:
        """It does not tell."""
        return None

    def work(self, connection: Connection, query: DriverQuery) -> tuple[str, int] | None:
        """Handler reads: rows and index entries that the server asked its storage for."""
        first, second = _handler_reads(connection), _handler_reads(connection)
        execute(connection, query)
        return "handler reads", max(_handler_reads(connection) - second - (second - first), 0)

    def busy(self, connection: Connection, tables: Sequence[str]) -> str:
        """Running statements that name the tables, and transactions that hold locks."""
        wanted = {table.lower() for table in tables}
        for _, user, info in connection.exec_driver_sql(_PROCESSES).all():
            words = str(info).lower().replace("`", " ").replace(".", " ").split()
            named = wanted & {word.strip("(),;") for word in words}
            if named:
                return f"another session of {user} is using {next(iter(named))}"
        with suppress(DBAPIError):  # needs the right to see processes
            holders = connection.exec_driver_sql(_TRANSACTIONS).all()
            if holders:
                return (
                    f"{len(holders)} other "
                    f"{'transaction holds' if len(holders) == 1 else 'transactions hold'} locks"
                )
        return ""

    def allow_copies(self, connection: Connection) -> None:
        """The transaction that makes them is enough."""

    def live_name(self, connection: Connection, table: str) -> str:
        """There is no other way to name it: copies are made before they hide it."""
        return connection.dialect.identifier_preparer.quote(table)

    @contextmanager
    def twins(
        self, url: URL, limits: Limits, ddl: str, tables: Sequence[str], table: str
    ) -> Iterator[ConnectionPair]:
        """Copies of the tables in two scratch schemas, dropped at the end; one of them gets the
        index.
        """
        wanted = list(dict.fromkeys([table, *tables]))
        with self._scratch(url, limits, wanted, ("plain", "indexed")) as (admin, sessions, cleaned):
            plain, indexed = sessions.values()

            def build() -> BuiltIndex:
                indexed.rollback()  # an open transaction would keep the index from being made
                built = _build(admin, [*sessions][1], ddl, table)
                self.begin(indexed, limits)
                return built

            yield ConnectionPair(
                plain, indexed, build, "on copies of the tables in a scratch schema", cleaned
            )

    @contextmanager
    def workshop(self, url: URL, limits: Limits, tables: Sequence[str]) -> Iterator[ScratchTables]:
        """Copies of the tables in a scratch schema, dropped at the end."""
        with self._scratch(url, limits, tables, ("indexed",), write=True) as (
            admin,
            sessions,
            cleaned,
        ):
            ((schema, connection),) = sessions.items()

            def run(ddl: str) -> None:
                connection.rollback()
                admin.exec_driver_sql(f"USE {schema}")
                admin.exec_driver_sql(ddl.replace("%", "%%"))
                # An index that comes or goes may take along what the server knows of the others.
                admin.exec_driver_sql(f"ANALYZE TABLE {', '.join(map(_quoted, tables))}").all()
                self.begin(connection, limits, write=True)

            yield ScratchTables(
                connection, run, "on copies of the tables in a scratch schema", cleaned
            )

    @contextmanager
    def _scratch(
        self,
        url: URL,
        limits: Limits,
        tables: Sequence[str],
        names: Sequence[str],
        write: bool = False,
    ) -> Iterator[tuple[Connection, dict[str, Connection], tuple[str, ...]]]:
        """(a connection that may do everything, one to each scratch schema with copies of the
        tables, what was cleaned up).

        With `write` those are not read-only: a write can't even be explained there.
        """
        live = str(url.database)
        engine = self.engine(url, limits)
        stem = SCRATCH + secrets.token_hex(4)
        schemas = [f"{stem}_{name}" for name in names]
        ours: list[int] = []  # connections that must be gone before the schemas can go
        sound = False
        try:
            with ExitStack() as stack:
                admin = stack.enter_context(
                    engine.connect().execution_options(isolation_level="AUTOCOMMIT")
                )
                cleaned = clean(admin)
                self._check(admin, tables, limits)
                refuse(self.copy_routines(admin, tables, limits.trusted), "copying the tables")
                ours.append(_session(admin))
                self.begin(
                    admin, Limits(limits.statement_s * _COPY_FACTOR, limits.lock_s), write=True
                )
                admin.exec_driver_sql("COMMIT")
                # Reads of the live tables take no locks at this level.
                admin.exec_driver_sql("SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED")
                admin.exec_driver_sql("SELECT GET_LOCK(%s, 0)", (stem,))
                for schema in schemas:
                    admin.exec_driver_sql(f"CREATE DATABASE {schema}")
                    for name in tables:
                        _copy(admin, live, schema, name)
                for schema in schemas:
                    quoted = ", ".join(f"{schema}.{_quoted(name)}" for name in tables)
                    admin.exec_driver_sql(f"ANALYZE TABLE {quoted}").all()
                sessions = {
                    schema: stack.enter_context(
                        self.engine(url.set(database=schema), limits).connect()
                    )
                    for schema in schemas
                }
                for connection in sessions.values():
                    self.begin(connection, limits, write)
                    ours.append(connection.info[_SESSION])
                yield admin, sessions, tuple(cleaned)
                for connection in sessions.values():
                    connection.rollback()
                sound = True
        finally:
            if ours:
                _drop(engine, schemas, [] if sound else ours)

    def _check(self, admin: Connection, tables: Sequence[str], limits: Limits) -> None:
        columns: dict[str, list[str]] = {}
        for table, column in admin.exec_driver_sql(_COLUMNS):
            columns.setdefault(str(table), []).append(str(column))
        known = {table.lower(): table for table in columns}
        sizes = self.sizes(
            admin,
            {
                known[name.lower()]: columns[known[name.lower()]]
                for name in tables
                if name.lower() in known
            },
        )
        for name in tables:
            if name.lower() not in known:
                raise AskLessError(
                    "no-such-table",
                    f"{name} is not a table of this database",
                    "check the statement; views can't be copied",
                )
            size = sizes[known[name.lower()]].bytes
            if size > limits.table_bytes and not limits.allow_large:
                raise AskLessError(
                    "too-large",
                    f"{name} has {bytes_in_words(size)}: a trial copies it twice",
                    "try it on a smaller database, or use --allow-large",
                )


def clean(connection: Connection) -> list[str]:
    """Scratch schemas whose trial's session is gone: it held a lock of their name."""
    gone = []
    names = [str(row[0]) for row in connection.exec_driver_sql("SHOW DATABASES").all()]
    for name in names:
        stem = name.rpartition("_")[0]
        if not name.startswith(SCRATCH) or not stem.startswith(SCRATCH):
            continue
        if connection.exec_driver_sql("SELECT IS_FREE_LOCK(%s)", (stem,)).scalar_one():
            connection.exec_driver_sql(f"DROP DATABASE IF EXISTS {_quoted(name)}")
            gone.append(f"the scratch schema {name}")
    return gone


def _quoted(name: str) -> str:
    return "`" + name.replace("`", "``").replace("%", "%%") + "`"


def _copy(admin: Connection, live: str, schema: str, table: str) -> None:
    """A table with its indexes and rows, without its foreign keys and triggers."""
    name, source = _quoted(table), _quoted(live)
    admin.exec_driver_sql(f"CREATE TABLE {schema}.{name} LIKE {source}.{name}")
    rows = admin.exec_driver_sql(
        "SELECT column_name FROM information_schema.columns WHERE table_schema = %s AND "
        "table_name = %s"
        " AND COALESCE(generation_expression, '') = '' ORDER BY ordinal_position",
        (live, table),
    )
    columns = ", ".join(_quoted(str(row[0])) for row in rows)
    admin.exec_driver_sql(
        f"INSERT INTO {schema}.{name} ({columns}) SELECT {columns} FROM {source}.{name}"  # noqa: S608  (quoted)
    )


def _session(connection: Connection) -> int:
    return int(connection.exec_driver_sql("SELECT CONNECTION_ID()").scalar_one())


def _end(connection: Connection, session: int) -> None:
    """End a session that is still at work; once: a server was seen to fall over one that was killed
    again while it ended.
    """
    at_work = (
        f"SELECT 1 FROM information_schema.processlist WHERE id = {session} AND command <> 'Killed'"  # noqa: S608
    )
    if connection.exec_driver_sql(at_work).first() is not None:
        connection.exec_driver_sql(f"KILL {session}")


def _drop(engine: Engine, schemas: Sequence[str], sessions: Sequence[int]) -> None:
    """Drop the scratch schemas over a connection of its own: the trial's may be lost, or in the
    middle of a statement.

    Where the trial ended in trouble, its sessions are ended first: they may hold the tables. A
    server that is away keeps the schemas until the next trial: they are dropped by their name then.
    """
    with (
        suppress(DBAPIError),
        engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection,
    ):
        for session in sessions:
            with suppress(DBAPIError):
                _end(connection, session)
        for schema in schemas:
            connection.exec_driver_sql(f"DROP DATABASE IF EXISTS {schema}")


def _build(admin: Connection, schema: str, ddl: str, table: str) -> BuiltIndex:
    admin.exec_driver_sql(f"USE {schema}")
    before = _index_bytes(admin, schema, table)
    start = time.perf_counter()
    admin.exec_driver_sql(ddl.replace("%", "%%"))
    build_ms = (time.perf_counter() - start) * 1e3
    admin.exec_driver_sql(f"ANALYZE TABLE {_quoted(table)}").all()
    return BuiltIndex(build_ms, max(_index_bytes(admin, schema, table) - before, 0))


def _index_bytes(admin: Connection, schema: str, table: str) -> int:
    result = admin.exec_driver_sql(
        "SELECT index_length FROM information_schema.tables WHERE table_schema = %s AND "
        "table_name = %s",
        (schema, table),
    )
    return int(result.scalar() or 0)


def _handler_reads(connection: Connection) -> int:
    rows = connection.exec_driver_sql("SHOW SESSION STATUS LIKE 'Handler_read%%'").all()
    return sum(int(row[1]) for row in rows)


SERVER = MariaDB()
