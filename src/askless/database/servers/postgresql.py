"""PostgreSQL: everything happens in transactions that are rolled back; an index that is tried never
becomes visible.
"""

from __future__ import annotations

import json
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager, nullcontext, suppress
from functools import cache
from typing import Any

import msgspec
import sqlalchemy
from sqlalchemy.engine import URL, Connection, Engine
from sqlalchemy.exc import DBAPIError

from askless.core.errors import AskLessError
from askless.core.formatting import size as bytes_in_words
from askless.core.plans import checked, postgresql as reader
from askless.core.plans.tree import Node
from askless.core.statistics import median
from askless.database.driver_query import DriverQuery
from askless.database.preflight import LIMITS, check, refuse
from askless.database.servers import (
    BuiltIndex,
    ConnectionPair,
    Limits,
    Routine,
    ScratchTables,
    Size,
)
from askless.database.servers.inspector import close_inspectors, inspector
from askless.database.servers.lock_monitor import LockWatch
from askless.database.servers.postgresql_dependencies import Inspection
from askless.database.statement_execution import explain, prepare

_LOOKS = 6  # at who else holds locks
_PLANNINGS = 6
_LOOK_S = 1.3  # for all of them: a session tells once a second of what it has read and written
_GENERIC = "askless_statement"
_PARAMETER_TYPES = "SELECT parameter_types::text[] FROM pg_prepared_statements WHERE name = %s"
_WRITES = "askless_writes"  # whether the transaction of a connection may write
_COUNTERS = """
SELECT relname, coalesce(seq_scan, 0) + coalesce(idx_scan, 0), n_tup_ins + n_tup_upd + n_tup_del
FROM pg_stat_user_tables WHERE relname = ANY (%s) AND pg_table_is_visible(relid)
"""
_WAITERS = (
    "SELECT 1 FROM pg_locks l WHERE NOT l.granted AND %s = ANY (pg_blocking_pids(l.pid)) LIMIT 1"
)
_SIZES = """
SELECT c.relname, c.reltuples, pg_table_size(c.oid)
FROM pg_class c WHERE c.relkind IN ('r', 'p', 'm') AND pg_table_is_visible(c.oid)
"""
_WIDTHS = """
SELECT s.tablename, s.attname, s.avg_width, s.n_distinct, s.null_frac, s.correlation
FROM pg_stats s WHERE s.schemaname = ANY (current_schemas(false)) AND NOT s.inherited
"""
_KINDS = """
SELECT t.relname, c.relname, m.amname,
  EXISTS (SELECT 1 FROM unnest(i.indclass) AS o (id) JOIN pg_opclass p ON p.oid = o.id WHERE NOT p.opcdefault),
  EXISTS (SELECT 1 FROM generate_subscripts(i.indcollation, 1) AS k
          JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = i.indkey[k]
          WHERE i.indcollation[k] NOT IN (0, a.attcollation)),
  EXISTS (SELECT 1 FROM unnest(i.indoption) AS o (bits) WHERE o.bits <> 0), i.indisclustered
FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_class t ON t.oid = i.indrelid
JOIN pg_am m ON m.oid = c.relam WHERE pg_table_is_visible(t.oid)
"""
_PARTITIONS = """
SELECT c.relname, (SELECT array_agg(a.attname::text) FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum = ANY (p.partattrs)),
  (SELECT count(*) FROM pg_inherits h WHERE h.inhparent = c.oid)
FROM pg_partitioned_table p JOIN pg_class c ON c.oid = p.partrelid WHERE pg_table_is_visible(c.oid)
"""
_LOCKS = """
SELECT DISTINCT a.pid, c.relname, a.application_name, left(l.mode, 40)
FROM pg_locks l JOIN pg_class c ON c.oid = l.relation JOIN pg_stat_activity a ON a.pid = l.pid
WHERE l.pid <> pg_backend_pid() AND a.backend_type = 'client backend' AND c.relname = ANY (%s)
  AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database())
"""


class PostgreSQL:
    """See the module."""

    paramstyle = "format"
    builds_in_place = True
    estimates_well = True

    def check(self, url: URL) -> None:
        """Only the server can tell."""

    def engine(self, url: URL, limits: Limits) -> Engine:
        """Whatever driver the application's URL names, ours is psycopg, with values written into
        the text: the server then finds their types as in a statement typed by hand. Raises
        ModuleNotFoundError.
        """
        engine = sqlalchemy.create_engine(
            url.set(drivername="postgresql+psycopg"),
            poolclass=sqlalchemy.pool.NullPool,
            connect_args={
                "connect_timeout": max(int(limits.connect_s), 2),
                "cursor_factory": _one_statement_cursor(),
            },
        )
        sqlalchemy.event.listen(engine, "connect", _read_every_time)
        close_inspectors(engine)
        return engine

    def begin(self, connection: Connection, limits: Limits, write: bool = False) -> None:
        """One transaction for all; what is set goes with it."""
        settings = {
            "statement_timeout": int(limits.statement_s * 1000),
            "lock_timeout": int(limits.lock_s * 1000),
            "idle_in_transaction_session_timeout": 600_000,
            "application_name": "askless",
        }
        for name, value in settings.items():
            connection.exec_driver_sql(f"SET LOCAL {name} = '{value}'")
        if self._version(connection) >= 140000:
            # A backend whose client is gone gives its locks back, even in the middle of a
            # statement.
            connection.exec_driver_sql("SET LOCAL client_connection_check_interval = '2s'")
        # All statements see the rows of one moment: what others write in between is not a
        # difference of theirs.
        connection.exec_driver_sql(
            "SET TRANSACTION ISOLATION LEVEL REPEATABLE READ" + ("" if write else " READ ONLY")
        )
        connection.info[LIMITS], connection.info[_WRITES] = limits, write
        if not write:
            # after its first query, a transaction can't be made to write again
            connection.exec_driver_sql("SELECT 1")

    def _version(self, connection: Connection) -> int:
        return int(connection.exec_driver_sql("SHOW server_version_num").scalar_one())

    def abandon(self, engine: Engine, known: Mapping[str, Any]) -> None:
        """The driver has asked the server to end the statement."""

    def system(self, connection: Connection) -> str:
        """Always postgresql."""
        return "postgresql"

    def sizes(self, connection: Connection, columns: dict[str, list[str]]) -> dict[str, Size]:
        """As ANALYZE last saw them; a table that it never saw is counted where it is small."""
        widths: dict[str, dict[str, float]] = {}
        distinct: dict[str, dict[str, float]] = {}
        correlations: dict[str, dict[str, float]] = {}
        for table, column, width, values, nulls, correlation in connection.exec_driver_sql(_WIDTHS):
            widths.setdefault(table, {})[column] = float(width or 0) * (1 - float(nulls or 0))
            distinct.setdefault(table, {})[column] = float(values or 0)
            if correlation is not None:
                correlations.setdefault(table, {})[column] = float(correlation)
        results = {}
        for table, rows, size in connection.exec_driver_sql(_SIZES).all():
            if table not in columns:
                continue
            count = int(rows) if rows >= 0 else None
            if count is None and size <= 64 * 1024**2:
                quoted = connection.dialect.identifier_preparer.quote(table)
                with (
                    suppress(DBAPIError),
                    connection.begin_nested(),
                ):  # one that may not be read has no count
                    count = int(
                        connection.exec_driver_sql(f"SELECT count(*) FROM {quoted}").scalar_one()  # noqa: S608  (quoted)
                    )
            # n_distinct is a share of the rows where it is negative.
            values = {
                name: -v * (count or 0) if v < 0 else v
                for name, v in distinct.get(table, {}).items()
            }
            results[table] = Size(
                count, int(size), widths.get(table, {}), values, correlations.get(table, {})
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
        """By the parse tree that the server makes of the statement, and the catalogs."""
        with self._inspection(connection) as inspection:
            return inspection.routines_of(query, trusted, runs, types)

    def index_routines(
        self, connection: Connection, ddl: str, trusted: Sequence[str]
    ) -> list[Routine]:
        """What its expressions and its condition name, its operator classes, and event triggers
        that fire.
        """
        with self._inspection(connection) as inspection:
            return inspection.routines_of_index(ddl, trusted)

    def copy_routines(
        self, connection: Connection, tables: Sequence[str], trusted: Sequence[str]
    ) -> list[Routine]:
        """What their types and indexes name, and event triggers that fire."""
        with self._inspection(connection) as inspection:
            return inspection.routines_of_copies(tables, trusted)

    @contextmanager
    def _inspection(self, connection: Connection) -> Iterator[Inspection]:
        """A transaction of its own, which is rolled back, over a session that lives as long as the
        connection does.
        """
        limits: Limits = connection.info.get(LIMITS) or Limits()
        session = inspector(
            connection, lambda: self.engine(connection.engine.url, limits).connect()
        )
        session.rollback()
        for name, value in (
            ("statement_timeout", int(limits.statement_s * 1000)),
            ("lock_timeout", int(limits.lock_s * 1000)),
            ("application_name", "askless"),
        ):
            session.exec_driver_sql(f"SET LOCAL {name} = '{value}'")
        try:
            yield Inspection(session, self._version(session))
        finally:
            session.rollback()

    def only_reads(self, connection: Connection) -> AbstractContextManager[Any]:
        """A read-only transaction is one from its first statement on; of another, a part that is
        rolled back is one.
        """
        return self._read_only_part(connection) if connection.info.get(_WRITES) else nullcontext()

    @contextmanager
    def _read_only_part(self, connection: Connection) -> Iterator[None]:
        with connection.begin_nested() as savepoint:
            connection.exec_driver_sql("SET TRANSACTION READ ONLY")
            yield
            savepoint.rollback()

    def kinds(self, connection: Connection) -> dict[tuple[str, str], str]:
        """By access method, operator classes, collations and order, as the catalog has them."""
        results = {}
        for table, index, method, *marks in connection.exec_driver_sql(_KINDS):
            words = ("operator class", "collation", "descending", "clustered")
            kind = next((word for word, mark in zip(words, marks, strict=True) if mark), "")
            results[table, index] = method if method != "btree" else kind
        return results

    def unique_keys(self, connection: Connection) -> dict[str, list[tuple[str, ...]]]:
        """Reflection finds them."""
        return {}

    def partitions(self, connection: Connection) -> dict[str, tuple[tuple[str, ...], int]]:
        """As the catalog has them; a key that is an expression has no column."""
        rows = connection.exec_driver_sql(_PARTITIONS).all()
        return {table: (tuple(columns or ()), int(count)) for table, columns, count in rows}

    def extensions(self, connection: Connection) -> tuple[str, ...]:
        """As the catalog has them."""
        return tuple(
            str(row[0])
            for row in connection.exec_driver_sql("SELECT extname FROM pg_extension ORDER BY 1")
        )

    def explain(
        self, connection: Connection, query: DriverQuery, names: dict[str, str], analyze: bool
    ) -> tuple[Node, ...]:
        """EXPLAIN; with `analyze`, EXPLAIN ANALYZE with buffers."""
        options = "ANALYZE, BUFFERS, FORMAT JSON" if analyze else "FORMAT JSON"
        plan = explain(connection, query, f"EXPLAIN ({options}) ", runs=analyze)[0][0]
        return checked(reader.read_json, plan if isinstance(plan, str) else json.dumps(plan))

    def generic_plan(self, connection: Connection, query: DriverQuery) -> tuple[Node, ...]:
        """What a prepared statement gets once the server has stopped to plan for each value (from
        its sixth run on).
        """
        if not query.arguments:
            return ()
        from psycopg import sql

        raw: Any = connection.connection.driver_connection
        numbered = query.sql.split("%s")
        text = "".join(
            f"{part}${n}" if n <= len(query.arguments) else part
            for n, part in enumerate(numbered, 1)
        )
        generic = msgspec.structs.replace(query, sql=text, arguments=())  # %% stands for % in both
        values = (
            sql.SQL(", ")
            .join(sql.Literal(value) for value in query.arguments)
            .as_string(raw)
            .replace("%", "%%")
        )
        with connection.begin_nested() as savepoint:
            connection.exec_driver_sql("SET LOCAL plan_cache_mode = force_generic_plan")
            prepare(connection, generic, _GENERIC)  # parsed here, and not planned yet
            try:
                types = connection.exec_driver_sql(_PARAMETER_TYPES, (_GENERIC,)).scalar_one()
                check(connection, generic, runs=False, types=types)
                plan = _run(
                    connection, f"EXPLAIN (FORMAT JSON) EXECUTE {_GENERIC} ({values})"
                ).scalar_one()
            finally:
                _run(connection, f"DEALLOCATE {_GENERIC}")
            savepoint.rollback()
        return checked(reader.read_json, plan if isinstance(plan, str) else json.dumps(plan))

    def planning_ms(self, connection: Connection, query: DriverQuery) -> float | None:
        """The median of a few plannings, the first one omitted: it reads the catalog."""
        times = []
        for _ in range(_PLANNINGS):
            plan = explain(connection, query, "EXPLAIN (SUMMARY, FORMAT JSON) ")[0][0]
            times.append(
                float((json.loads(plan) if isinstance(plan, str) else plan)[0]["Planning Time"])
            )
        return median(times[1:])

    def work(self, connection: Connection, query: DriverQuery) -> tuple[str, int] | None:
        """Blocks of 8 KiB that were found in memory or read."""
        plan = self.explain(connection, query, {}, analyze=True)
        blocks = sum(
            node.actual.blocks_hit + node.actual.blocks_read
            for node in plan
            if node.actual is not None
        )
        return "blocks of 8 KiB", blocks

    def busy(self, connection: Connection, tables: Sequence[str]) -> str:
        """Other sessions that hold or want locks on the tables, and what was read and written there
        while looking.
        """
        seen: dict[int, tuple[str, str]] = {}
        before = self._counters(connection, tables)
        for turn in range(_LOOKS):
            if turn:
                time.sleep(_LOOK_S / (_LOOKS - 1))
            for pid, table, program, mode in connection.exec_driver_sql(_LOCKS, (list(tables),)):
                if program != "askless":
                    seen[pid] = (table, f"{mode}{' of ' + program if program else ''}")
        if seen:
            table, what = next(iter(seen.values()))
            others = "1 other session is" if len(seen) == 1 else f"{len(seen)} other sessions are"
            return f"{others} at work on {table} ({what})"
        for table, (scans, changes) in self._counters(connection, tables).items():
            was = before.get(table, (scans, changes))
            if scans > was[0] or changes > was[1]:
                return (
                    f"{table} was scanned {scans - was[0]} times and {changes - was[1]} of its "
                    f"rows were changed within {_LOOK_S:g} s"
                )
        return ""

    def _counters(
        self, connection: Connection, tables: Sequence[str]
    ) -> dict[str, tuple[int, int]]:
        """By table, scans that were begun and rows that were written so far; what this session saw
        before is forgotten.
        """
        connection.exec_driver_sql("SELECT pg_stat_clear_snapshot()")
        rows = connection.exec_driver_sql(_COUNTERS, (list(tables),)).all()
        return {name: (int(scans), int(changes)) for name, scans, changes in rows}

    def _watch(self, others: Connection, pid: int, limits: Limits) -> LockWatch:
        """Looks who waits for the session `pid`, over another one, which ends it where someone has
        waited long enough.
        """
        return LockWatch(
            lambda: bool(others.exec_driver_sql(_WAITERS, (pid,)).all()),
            lambda: others.exec_driver_sql("SELECT pg_terminate_backend(%s)", (pid,)).close(),
            limits.lock_budget_s,
        )

    def allow_copies(self, connection: Connection) -> None:
        """Temporary tables come first, even where someone has set a path that puts them last."""
        connection.exec_driver_sql(
            "SELECT set_config('search_path', 'pg_temp, ' || current_setting('search_path'), true)"
        )

    def live_name(self, connection: Connection, table: str) -> str:
        """In the schema that comes first; temporary tables come before it."""
        quote = connection.dialect.identifier_preparer.quote
        return f"{quote(connection.dialect.default_schema_name or 'public')}.{quote(table)}"

    @contextmanager
    def workshop(self, url: URL, limits: Limits, tables: Sequence[str]) -> Iterator[ScratchTables]:
        """Temporary tables with all rows, in one transaction that is rolled back: the live tables
        are read, and not locked.
        """
        engine = self.engine(url, limits)
        patient = msgspec.structs.replace(limits, statement_s=limits.statement_s * _COPY_FACTOR)
        with engine.connect() as connection, engine.connect() as source:
            self.begin(connection, patient, write=True)
            self.begin(source, patient)
            refuse(self.copy_routines(source, tables, limits.trusted), "copying the tables")
            quote = connection.dialect.identifier_preparer.quote
            known = self.sizes(connection, {name: [] for name in tables})
            for name in tables:
                size = known.get(name)
                if size is not None and size.bytes > limits.table_bytes and not limits.allow_large:
                    raise AskLessError(
                        "too-large",
                        f"{name} has {bytes_in_words(size.bytes)}: all of its rows would be copied",
                        "try it on a smaller database, or use --allow-large",
                    )
            copies = [
                (name, connection.exec_driver_sql(_DEFINITIONS, (name,)).all()) for name in tables
            ]
            self.allow_copies(connection)
            for name, definitions in copies:
                live, copy = self.live_name(connection, name), f"pg_temp.{quote(name)}"
                like = f"(LIKE {live} INCLUDING STATISTICS) ON COMMIT DROP"
                _run(connection, f"CREATE TEMPORARY TABLE {quote(name)} {like}".replace("%", "%%"))
                _stream(source, connection, live, copy)
                for index, definition, is_key in definitions:
                    # The first ON is the table's: what is before it is CREATE INDEX and the index's
                    # name.
                    head, _, tail = definition.partition(" ON ")
                    created = f"{head} ON {copy} USING {tail.partition(' USING ')[2]}"
                    _run(connection, created.replace("%", "%%"))
                    if is_key:
                        key = f"ALTER TABLE {copy} ADD PRIMARY KEY USING INDEX {quote(index)}"
                        _run(connection, key.replace("%", "%%"))
                _run(connection, f"ANALYZE {copy}".replace("%", "%%"))
            source.rollback()
            connection.exec_driver_sql(
                f"SET LOCAL statement_timeout = {int(limits.statement_s * 1e3)}"
            )
            try:
                yield ScratchTables(
                    connection,
                    lambda ddl: _run(connection, ddl.replace("%", "%%")),
                    "on copies that only this session sees",
                )
            finally:
                with suppress(DBAPIError):
                    connection.rollback()

    @contextmanager
    def twins(
        self, url: URL, limits: Limits, ddl: str, tables: Sequence[str], table: str
    ) -> Iterator[ConnectionPair]:
        """The index lives in one transaction, which is rolled back; the other connection never sees
        it.
        """
        if limits.on_copies:
            with self._copied_twins(
                url, limits, ddl, list(dict.fromkeys([table, *tables]))
            ) as twins:
                yield twins
            return
        engine = self.engine(url, limits)
        with ExitStack() as stack:
            plain, indexed = (stack.enter_context(engine.connect()) for _ in range(2))
            others = stack.enter_context(
                engine.connect().execution_options(isolation_level="AUTOCOMMIT")
            )
            self.begin(plain, limits)
            size = self.sizes(plain, {table: []}).get(table)
            if size is not None and size.bytes > limits.table_bytes and not limits.allow_large:
                raise AskLessError(
                    "too-large",
                    f"{table} has {bytes_in_words(size.bytes)}: no one can write to it while the "
                    "index is built and tested",
                    "try it on a copy of the database, or use --allow-large",
                )
            self.begin(indexed, limits, write=True)
            snapshot = plain.exec_driver_sql("SELECT pg_export_snapshot()").scalar_one()
            indexed.exec_driver_sql(f"SET TRANSACTION SNAPSHOT '{snapshot}'")
            pid = int(indexed.exec_driver_sql("SELECT pg_backend_pid()").scalar_one())
            watch = self._watch(others, pid, limits)

            def build() -> BuiltIndex:
                before = {row[0] for row in indexed.exec_driver_sql(_INDEXES, (table,))}
                start = time.perf_counter()
                stack.enter_context(watch)
                indexed.exec_driver_sql(ddl.replace("%", "%%"))
                build_ms = (time.perf_counter() - start) * 1e3
                products = [
                    row
                    for row in indexed.exec_driver_sql(_INDEXES, (table,))
                    if row[0] not in before
                ]
                # What is left is only read: a statement that is tried must not write by mistake.
                indexed.exec_driver_sql("SET TRANSACTION READ ONLY")
                indexed.info[_WRITES] = False
                return BuiltIndex(
                    build_ms,
                    sum(int(row[1]) for row in products),
                    _HELD_BACK if any(row[2] for row in products) else "",
                )

            @contextmanager
            def reading() -> Iterator[None]:
                # The rest of the transaction may build the index. What is measured does not pay for
                # a part each time.
                with self._read_only_part(indexed):
                    indexed.info[_WRITES] = False
                    try:
                        yield
                    finally:
                        indexed.info[_WRITES] = True

            try:
                where = "in a transaction that is rolled back"
                yield ConnectionPair(
                    plain, indexed, build, where, reading=reading, locked=watch.so_far
                )
            except (DBAPIError, AskLessError) as error:
                if not watch.gave_way:
                    raise
                raise AskLessError(
                    "others-wait",
                    f"another session waited {limits.lock_budget_s * 1e3:.0f} ms to write to "
                    f"{table}, so the trial was stopped and undone",
                    "try it on copies, which locks nothing: --use-copies; or let others wait "
                    "longer: --lock-budget 2s",
                ) from error
            finally:
                with suppress(DBAPIError):
                    indexed.rollback()

    @contextmanager
    def _copied_twins(
        self, url: URL, limits: Limits, ddl: str, tables: Sequence[str]
    ) -> Iterator[ConnectionPair]:
        """Two sessions with copies of their own: no one waits for a lock, and none uses parallel
        workers.
        """
        with (
            self.workshop(url, limits, tables) as plain,
            self.workshop(url, limits, tables) as indexed,
        ):

            def build() -> BuiltIndex:
                start = time.perf_counter()
                before = _index_bytes(indexed.connection, tables[0])
                indexed.run(ddl)
                build_ms = (time.perf_counter() - start) * 1e3
                return BuiltIndex(
                    build_ms, max(_index_bytes(indexed.connection, tables[0]) - before, 0)
                )

            yield ConnectionPair(
                plain.connection, indexed.connection, build, "on copies that only its sessions see"
            )


def _stream(source: Connection, target: Connection, live: str, copy: str) -> None:
    """All rows of a table, frozen: an index alone then answers what it holds, as it would on the
    table that was vacuumed.
    """
    reading: Any = source.connection.driver_connection
    writing: Any = target.connection.driver_connection
    given = f"COPY (SELECT * FROM {live}) TO STDOUT"  # noqa: S608
    taken = f"COPY {copy} FROM STDIN (FREEZE)"
    with (
        reading.cursor() as one,
        writing.cursor() as other,
        one.copy(given) as rows,
        other.copy(taken) as into,
    ):
        for block in rows:
            into.write(block)


def _index_bytes(connection: Connection, table: str) -> int:
    return int(
        connection.exec_driver_sql("SELECT pg_indexes_size(%s::regclass)", (table,)).scalar_one()
    )


@cache
def _one_statement_cursor() -> type[Any]:
    """A cursor that always takes the extended protocol, in which the server itself refuses a second
    statement.
    """
    import psycopg

    class OneStatementCursor(psycopg.ClientCursor[Any]):
        def _execute_send(
            self, query: Any, *, force_extended: bool = True, binary: bool | None = None
        ) -> None:
            super()._execute_send(query, force_extended=True, binary=binary)

    return OneStatementCursor


def _read_every_time(raw: Any, _record: Any) -> None:
    """Times that Python has no value for ('infinity', the year 10000, BC) come as their text."""
    from psycopg import DataError
    from psycopg.pq import Format

    for name in ("date", "timestamp", "timestamptz"):
        plain: Any = raw.adapters.get_loader(raw.adapters.types[name].oid, Format.TEXT)

        class Loader:
            format = Format.TEXT

            def __init__(self, oid: int, context: Any = None, plain: Any = plain) -> None:
                self.plain = plain(oid, context)

            def load(self, data: Any) -> Any:
                try:
                    return self.plain.load(data)
                except DataError:
                    return bytes(data).decode()

        raw.adapters.register_loader(name, Loader)


_INDEXES = """
SELECT i.indexrelid, pg_relation_size(i.indexrelid), i.indcheckxmin
FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid WHERE c.relname = %s AND pg_table_is_visible(c.oid)
"""
_DEFINITIONS = """
SELECT c.relname, pg_get_indexdef(i.indexrelid), i.indisprimary
FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_class t ON t.oid = i.indrelid
WHERE t.relname = %s AND pg_table_is_visible(t.oid) AND i.indisvalid AND NOT i.indisexclusion
ORDER BY c.relname
"""
_COPY_FACTOR = 10  # how much longer than a statement a copy may take
_HELD_BACK = (
    "rows of the table were changed recently, so the server may not use a new index in the "
    "transaction that created it; VACUUM the table or try again later"
)


def _run(connection: Connection, sql: str) -> Any:
    return connection.exec_driver_sql(sql)


SERVER = PostgreSQL()
