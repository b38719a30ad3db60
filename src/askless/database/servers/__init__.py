"""The registry of database servers: what differs between them is a file in this folder and a line
here.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from importlib import import_module
from typing import Any, Protocol, cast

import msgspec
from sqlalchemy.engine import URL, Connection, Engine

from askless.core.errors import AskLessError
from askless.core.plans.tree import Node
from askless.database.driver_query import DriverQuery

# Backend in a URL -> the module that has its `SERVER`.
SERVERS = {
    "sqlite": "askless.database.servers.sqlite",
    "postgresql": "askless.database.servers.postgresql",
    "mysql": "askless.database.servers.mariadb",
    "mariadb": "askless.database.servers.mariadb",
}


class Limits(msgspec.Struct, frozen=True):
    """How far Ask Less may go on a server: seconds for one statement, for a lock, and for opening a
    connection.

    A lock that a trial holds is given back once someone has waited `lock_budget_s` for it. A table
    of more than `table_bytes` is not copied or indexed, unless `allow_large`. `trusted` are
    functions that are known to do nothing outside of a transaction. With `harder`, data is planted
    in copies of tables that no one else sees. With `on_copies` an index is tried on copies also if
    a server would build it on the table and roll it back.
    """

    statement_s: float = 30.0
    lock_s: float = 2.0
    connect_s: float = 10.0
    lock_budget_s: float = 0.2
    table_bytes: int = 512 * 1024**2
    allow_large: bool = False
    even_if_busy: bool = False
    trusted: tuple[str, ...] = ()
    harder: bool = False
    on_copies: bool = False


class Routine(msgspec.Struct, frozen=True):
    """A routine that a statement would run and that may do more than compute, with the reason for
    that doubt.
    """

    name: str
    reason: str


class Size(msgspec.Struct, frozen=True):
    """How large a table is, by the server's own statistics. `widths` are mean bytes of a column's
    value.
    """

    rows: int | None
    bytes: int
    widths: dict[str, float] = {}
    distinct: dict[str, float] = {}
    correlations: dict[str, float] = {}


class BuiltIndex(msgspec.Struct, frozen=True):
    """An index that was built: how long that took, how large it is, and what may keep the server
    from using it.
    """

    build_ms: float
    size_bytes: int
    caution: str = ""


class ConnectionPair(msgspec.Struct, frozen=True):
    """Two connections that see the same rows. After `build` has run, the second one sees the index
    as well.

    `where` says where that is; `cleaned` what an earlier trial had left after, in words. Before
    `build`, what runs on the second one runs inside `reading`, if it can't write. `locked` gives
    how long others could not write to the table so far, and the longest time that someone waited,
    in seconds.
    """

    plain: Connection
    indexed: Connection
    build: Callable[[], BuiltIndex]
    where: str
    cleaned: tuple[str, ...] = ()
    reading: Callable[[], AbstractContextManager[Any]] = nullcontext
    locked: Callable[[], tuple[float, float]] = lambda: (0.0, 0.0)


class ScratchTables(msgspec.Struct, frozen=True):
    """A connection that sees copies of tables, with their rows and indexes, in their place; `run`
    takes DDL on the copies.

    `where` says where they are; `cleaned` what an earlier trial had left after, in words.
    """

    connection: Connection
    run: Callable[[str], None]
    where: str
    cleaned: tuple[str, ...] = ()


class Server(Protocol):
    """What the rest of the room asks of a server."""

    paramstyle: str
    # an index is tried on the table itself, where writers wait for it, unless copies are asked for
    builds_in_place: bool
    # whether the planner knows how many rows a condition keeps, so that no one need count
    estimates_well: bool

    def check(self, url: URL) -> None:
        """Raises AskLessError database-missing if it can be said that there is none, before
        anything is opened.
        """

    def engine(self, url: URL, limits: Limits) -> Engine:
        """An engine without a pool. Raises ModuleNotFoundError if the driver is missing."""

    def begin(self, connection: Connection, limits: Limits, write: bool = False) -> None:
        """Begin the one transaction of a connection, with its limits set; read-only, unless
        `write`.
        """

    def abandon(self, engine: Engine, known: Mapping[str, Any]) -> None:
        """End what a connection may still be running: no one waits for it any more. `known` is what
        `begin` noted of it.
        """

    def system(self, connection: Connection) -> str:
        """The server's name: sqlite, postgresql, mysql or mariadb."""

    def sizes(self, connection: Connection, columns: dict[str, list[str]]) -> dict[str, Size]:
        """The size of each table, its columns given."""

    def routines(
        self,
        connection: Connection,
        query: DriverQuery,
        trusted: Sequence[str],
        runs: bool,
        types: Sequence[str] = (),
    ) -> list[Routine]:
        """What the query would run that is not known to be harmless, by the server's catalogs;
        `trusted` names are omitted.

        With `runs` false it is only planned: what no planner evaluates may be omitted. `types` are
        the server's types of its own placeholders `$1`, `$2`, … where the text has such.
        """

    def index_routines(
        self, connection: Connection, ddl: str, trusted: Sequence[str]
    ) -> list[Routine]:
        """What building the index of a CREATE INDEX would run that is not known to be harmless."""

    def copy_routines(
        self, connection: Connection, tables: Sequence[str], trusted: Sequence[str]
    ) -> list[Routine]:
        """What putting the rows of tables into copies would run that is not known to be
        harmless.
        """

    def only_reads(self, connection: Connection) -> AbstractContextManager[Any]:
        """While it is open, the server itself refuses whatever is not a read or an EXPLAIN."""

    def kinds(self, connection: Connection) -> dict[tuple[str, str], str]:
        """(table, index) -> what makes it another index than a plain one: see `Index.kind`. Plain
        ones may be omitted.
        """

    def unique_keys(self, connection: Connection) -> dict[str, list[tuple[str, ...]]]:
        """The columns of unique constraints by table; may be empty where reflection finds all."""

    def partitions(self, connection: Connection) -> dict[str, tuple[tuple[str, ...], int]]:
        """table -> the columns by which it is in parts, and how many there are."""

    def extensions(self, connection: Connection) -> tuple[str, ...]:
        """The extensions that the database has; () where a server has none by names."""

    def explain(
        self, connection: Connection, query: DriverQuery, names: dict[str, str], analyze: bool
    ) -> tuple[Node, ...]:
        """The plan of a query. With `analyze` the query is run, and the plan holds what was
        measured.
        """

    def generic_plan(self, connection: Connection, query: DriverQuery) -> tuple[Node, ...]:
        """The plan for a prepared statement that the server has stopped to plan for each value; ()
        where there is none.
        """

    def planning_ms(self, connection: Connection, query: DriverQuery) -> float | None:
        """What planning the query takes each time that its text comes again; None if the server
        does not tell.
        """

    def work(self, connection: Connection, query: DriverQuery) -> tuple[str, int] | None:
        """What the query makes the server touch: the unit's name and how many; None if it can't be
        counted.
        """

    def busy(self, connection: Connection, tables: Sequence[str]) -> str:
        """Who else is at work on these tables, in words; '' for no one."""

    def allow_copies(self, connection: Connection) -> None:
        """Let a connection make tables that it alone sees."""

    def live_name(self, connection: Connection, table: str) -> str:
        """A table's name as it is found while no temporary table hides it, or next to one that
        does.
        """

    def twins(
        self, url: URL, limits: Limits, ddl: str, tables: Sequence[str], table: str
    ) -> AbstractContextManager[ConnectionPair]:
        """A place to try an index of `table` for statements on `tables`, gone when the context
        ends.
        """

    def workshop(
        self, url: URL, limits: Limits, tables: Sequence[str]
    ) -> AbstractContextManager[ScratchTables]:
        """Copies of tables where many indexes can come and go, gone when the context ends. Raises
        AskLessError too-large.
        """


def server_of(url_or_connection: URL | Connection) -> Server:
    """The server after a URL or a connection. Raises AskLessError system-unsupported."""
    is_url = isinstance(url_or_connection, URL)
    name = url_or_connection.get_backend_name() if is_url else url_or_connection.dialect.name  # type: ignore[union-attr]
    if name not in SERVERS:
        raise AskLessError(
            "system-unsupported",
            f"{name} databases are not supported",
            "Ask Less supports SQLite, PostgreSQL, MariaDB and MySQL",
        )
    product: Any = import_module(SERVERS[name]).SERVER
    return cast(Server, product)
