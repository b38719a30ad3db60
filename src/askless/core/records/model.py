"""The plain records that everything else passes around: queries, requests, statements, places.

Times are in nanoseconds (`_ns`) on the recording process's own clock unless a name says otherwise.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Protocol
from zlib import crc32

import msgspec

from askless.core.errors import AskLessError
from askless.core.formatting import location_text
from askless.core.records.intervals import lower_gap_ns, union_ns
from askless.core.records.sampling import Counts
from askless.core.sql.shape import Shape
from askless.core.sql.slots import Slot, Value, literal_value, slots_of, values_of
from askless.core.sql.structure import Structure
from askless.core.sql.structure_store import structure_of

RequestHints = int | float | bool | str  # a field that a server's log has of a query


def line_digest(line: bytes) -> int:
    """The digest of a source line, the space around it aside: the CRC-32 of its bytes."""
    return crc32(line.strip())


class CallSite(msgspec.Struct, frozen=True):
    """A line of the application that asked, and the line that called it.

    Where no line is known (0), the file or the part of the application that a comment named.
    `digest` is that of the line's text as it ran (`line_digest`), 0 where it is not known.
    """

    file: str
    line: int
    function: str
    caller: CallSite | None = None
    digest: int = 0

    def __str__(self) -> str:
        return location_text(self.file, self.line)

    def path(self) -> list[CallSite]:
        """This place and its callers, innermost first."""
        results = []
        place: CallSite | None = self
        while place is not None:
            results.append(place)
            place = place.caller
        return results


class Load(msgspec.Struct, frozen=True):
    """What an ORM said of a query. `kind`: lazy, eager, refresh, query, write. `relation` is an
    attribute of `model`.

    `named` are the columns that the query's own options name ("Vessel.flag"), to be fetched, and
    `deferred` those that they leave out. `unchanged`: a to-many relation was asked as its manager
    gives it, nothing added; None where that is not known.

    The kind `library` is a query that a library builds and reads by itself, for objects that it
    then hands out: the application can hang nothing on it.
    """

    orm: str
    kind: str
    model: str
    relation: str
    target: str
    many: bool
    named: tuple[str, ...] = ()
    deferred: tuple[str, ...] = ()
    unchanged: bool | None = None


class Relation(msgspec.Struct, frozen=True):
    """A relation of a model: local and remote columns, and the table between them if there is one.

    `queried` is its name in a query where that is another one: Django's `job_set` is `job` there.
    """

    name: str
    target: str
    many: bool
    local: tuple[str, ...] = ()
    remote: tuple[str, ...] = ()
    link: str = ""
    queried: str = ""


def leads_back(load: Load | None) -> bool:
    """Whether a lookup is for a relation of a model to itself, of which each row may ask again."""
    return (
        load is not None
        and load.kind == "lazy"
        and bool(load.relation)
        and load.model == load.target
    )


class Model(msgspec.Struct, frozen=True):
    """A model of an ORM. `attributes` gives the attribute of each column; `needed` are the columns
    that it can't do without besides its keys: what tells an object's class, and its version.
    `module` is the Python module that defines it, `base` the model that it is a class of; '' where
    that is not known, or there is none.
    """

    orm: str
    name: str
    table: str
    keys: tuple[str, ...] = ()
    attributes: dict[str, str] = {}
    relations: dict[str, Relation] = {}
    needed: tuple[str, ...] = ()
    module: str = ""
    base: str = ""

    @property
    def parents(self) -> tuple[str, ...]:
        """The models whose tables hold a part of each of its rows, by Django's name for the link to
        one.
        """
        return tuple(
            link.target
            for link in self.relations.values()
            if link.name.endswith("_ptr") and not link.many
        )

    def attribute(self, column: str) -> str:
        """The attribute of a column; the column's own name where it is not known."""
        return self.attributes.get(column, column)

    def relation_to(self, target: str, remote: str = "") -> Relation | None:
        """The only relation to a model (whose column is `remote`, where given); None if there are
        several.
        """
        results = [
            relation
            for relation in self.relations.values()
            if relation.target == target and (not remote or remote in relation.remote)
        ]
        return results[0] if len(results) == 1 else None


def parents_of(orm: str, model: Model, models: Mapping[tuple[str, str], Model]) -> list[Model]:
    """The models that hold a part of each of a model's rows, those that are known."""
    return [parent for name in model.parents if (parent := models.get((orm, name))) is not None]


def relation_of(load: Load | None, models: Mapping[tuple[str, str], Model]) -> Relation | None:
    """The relation that an ORM said it loads, if the model that has it is known; models go by ORM
    and name.
    """
    model = models.get((load.orm, load.model)) if load is not None else None
    return model.relations.get(load.relation) if model is not None and load is not None else None


class Used(msgspec.Struct, frozen=True):
    """What became of the objects of one model that one query loaded.

    `touched` of the `objects` were looked at by the application; `columns` ("table.column") and
    `relations` count the objects of which each was read.
    """

    model: str
    objects: int
    touched: int
    columns: dict[str, int]
    relations: dict[str, int]


class Wait(msgspec.Struct, frozen=True):
    """What the application waited for next to its queries. `kind`: http, mail, program, sleep;
    `what` names the other side.
    """

    kind: str
    what: str
    start_ns: int
    duration_ns: int
    place: CallSite | None = None


class Statement(msgspec.Struct):
    """A statement as the application sent it.

    `parts` alternates text that stays (even positions) with literals of its first execution (odd
    positions): a later query may come with other literals. `origins` say where each column comes
    from ("vessel.id"), if the server did. `first` is the number of the first statement of its file
    that has the same shape.
    """

    number: int
    parts: tuple[str, ...]
    shape: Shape
    system: str = ""
    names: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    sampled: tuple[int, ...] = ()
    origins: tuple[str, ...] = ()
    first: int = 0
    # the tables that it writes, once a pattern has asked for them
    written: tuple[str, ...] | None = None
    _slots: list[Slot] | None = None

    @property
    def structure(self) -> Structure | None:
        """Its structure; None if the parser can't read it."""
        return structure_of(self.text, self.system)

    @property
    def slots(self) -> list[Slot]:
        """The slots of its first text, found once."""
        if self._slots is None:
            self._slots = slots_of(self.text, self.system)
        return self._slots

    def values(
        self, parameters: Sequence[Value], literals: tuple[str, ...] | None
    ) -> tuple[Value, ...]:
        """The value in each slot of an execution, literals included."""
        slots = self.slots
        if not literals:
            return tuple(values_of(slots, parameters, self.names))
        if sum(not slot.placeholder for slot in slots) == len(literals) == len(slots):
            return tuple(map(literal_value, literals))
        return tuple(
            values_of(slots_of(self.text_with(literals), self.system), parameters, self.names)
        )

    @property
    def text(self) -> str:
        """The text of its first execution."""
        return "".join(self.parts)

    def text_with(self, literals: tuple[str, ...] | None) -> str:
        """The text of an execution with these literals."""
        if not literals:
            return self.text
        pieces = list(self.parts)
        if len(literals) != len(pieces) // 2:
            raise damaged(
                f"a query of statement {self.number} has {len(literals)} literals, not "
                f"{len(pieces) // 2}"
            )
        pieces[1::2] = literals
        return "".join(pieces)


class CaptureTables(msgspec.Struct):
    """What the queries of one capture file refer to by number. `tag` begins the names of its
    requests.

    `serves`: the program listens, so that what it asked outside of requests may be of many that no
    one distinguished. `recorder` is their source, `unseen` the fields that it can't see:
    "parameters" (a query without any may have had some), "results" (how many rows came, and which).
    One in `sample` requests was kept; `left_out` is what was reported of the others, by route,
    until someone takes it from here.
    """

    tag: str = ""
    statements: dict[int, Statement] = {}
    places: dict[int, CallSite] = {}
    loads: dict[int, Load] = {}
    models: dict[tuple[str, str], Model] = {}
    serves: bool = False
    recorder: str = ""
    unseen: tuple[str, ...] = ()
    sample: int = 1
    left_out: list[tuple[str, Counts]] = []


SAMPLED_MOST = 32  # rows of a result that a capture keeps, only their key-like columns
PAUSED = "paused"  # the kind of a request that only a pause of its connection tells from the next
# the kind of a request that may be many: what a program that serves asks outside of requests
BLENDED = "blended"
VAGUE = (PAUSED, BLENDED)  # the kinds of requests that may be several


def damaged(what: str) -> AskLessError:
    """What to say of a capture that does not hold what it should."""
    return AskLessError(
        "capture-damaged", what, "askless capture check CAPTURE shows where; record it again"
    )


# queries of one request that are looked at one by one; what comes after them is only added up
LOOKED_MOST = 50_000
_COLUMNS = ("statements", "durations_ns", "rows", "bytes", "places", "loads")
_NONE: list[int] = []
_NO_ERRANDS: list[Wait] = []
_EMPTY: dict[Any, Any] = {}


class OverflowTotals(msgspec.Struct):
    """Queries of one statement, place and load that came after those of their request that are
    looked at one by one.
    """

    count: int = 0
    duration_ns: int = 0
    rows: int = 0
    bytes: int = 0


class Columns(Protocol):
    """The columns of some queries of a request that reports seldom need; decoded when they are
    asked for.
    """

    def column(self, name: str) -> list[Any]:
        """One column, an entry a query."""


class Request:
    """One unit of the application's work with its queries, field by field: entry i of every list is
    query i.

    `statements`, `places` and `loads` hold numbers that `tables` resolves. `samples[i]` are the
    first rows of a result, only the columns `Statement.sampled`, or None; `literals[i]` the
    literals where they are not the statement's first; `widths[i]` the bytes of each column, for
    some queries; `errors[i]` and `batches[i]` are sparse, and so are `plans[i]`, the plan as the
    server wrote it, and `uses[i]`: what the application read of the result, if that was tracked.
    `errands` are what it waited for next to its queries, `memory_bytes` the most memory it took (0:
    not known). `more` counts queries of its that were omitted, `more_ns` their time. What comes
    after LOOKED_MOST queries is `beyond`, added up by statement, place and load.

    What every report needs is there at once; the other columns are decoded on first use, from
    `parts`.
    """

    __slots__ = (
        "_cold", "_gap_ns", "_order", "batches", "beyond", "bytes", "durations_ns", "end_ns", "errands",
        "errors", "has_server_fields", "kind", "loads", "memory_bytes", "more", "more_ns", "number",
        "parts", "path", "places", "plans", "route", "rows", "start_ns", "statements", "status",
        "tables", "uses", "warm_up", "widths",
    )  # fmt: skip

    def __init__(
        self, number: int, route: str, tables: CaptureTables, kind: str = "http", start_ns: int = 0
    ) -> None:
        self.number = number
        self.kind = kind
        self.route = route
        self.path = ""
        self.tables = tables
        self.start_ns = start_ns
        self.end_ns = 0
        self.status = 0
        self.memory_bytes = self.more = self.more_ns = 0
        self.warm_up = self.has_server_fields = False
        # Shared and empty until the reader sets them: nothing changes these in place.
        self.statements: list[int] = _NONE
        self.durations_ns: list[int] = _NONE
        self.rows: list[int] = _NONE
        self.bytes: list[int] = _NONE
        self.places: list[int] = _NONE
        self.loads: list[int] = _NONE
        self.widths: dict[int, list[int]] = _EMPTY
        self.errors: dict[int, str] = _EMPTY
        self.batches: dict[int, int] = _EMPTY
        self.plans: dict[int, str] = _EMPTY
        self.uses: dict[int, list[Used]] = _EMPTY
        self.beyond: dict[tuple[int, int, int], OverflowTotals] = _EMPTY
        self.errands: list[Wait] = _NO_ERRANDS
        self.parts: list[Columns] = []
        self._cold: dict[str, list[Any]] = {}
        # of what `parts` hold, if that is not the order of their starts
        self._order: list[int] | None = None
        self._gap_ns: int | None = None

    @property
    def name(self) -> str:
        """What every command calls the request: unique in a capture, the same whenever it is
        read.
        """
        return f"{self.tables.tag}{self.number}"

    @property
    def weight(self) -> int:
        """How many requests it stands for, where those that are kept were taken by chance."""
        return 1 if self.warm_up or self.kind in ("program", BLENDED) else self.tables.sample

    @property
    def idle_ns(self) -> int:
        """What of the request's time no query of its took; less than nothing where many ran side by
        side.
        """
        return (
            self.end_ns
            - self.start_ns
            - sum(self.durations_ns)
            - self.more_ns
            - sum(one.duration_ns for one in self.beyond.values())
        )

    @property
    def usual_gap_ns(self) -> int:
        """The lower quartile of the times between its queries, which every pattern compares with
        that of its own.
        """
        if self._gap_ns is None:
            everything = range(len(self.statements))
            self._gap_ns = lower_gap_ns(self.starts_ns, self.durations_ns, everything)
        return self._gap_ns

    def _column(self, name: str) -> list[Any]:
        known = self._cold.get(name)
        if known is None:
            try:
                known = self._cold[name] = [
                    value for part in self.parts for value in part.column(name)
                ]
            except (msgspec.DecodeError, RecursionError) as error:
                raise damaged(
                    f"request {self.name} ({self.route}) has a column {name} that can't be read: "
                    f"{error}"
                ) from None
            if len(known) != len(self.statements):
                raise damaged(
                    f"request {self.name} ({self.route}) has a column {name} of another length"
                )
            if self._order is not None:
                known = self._cold[name] = [known[i] for i in self._order]
        return known

    def own_columns(self) -> None:
        """Take copies of the columns, which may be shared, so that they can be lengthened in
        place.
        """
        for name in _COLUMNS:
            setattr(self, name, list(getattr(self, name)))

    def put_in_order(self) -> None:
        """Put the queries in the order of their starts, once all are there.

        Parts may come otherwise: a query whose result is read slowly is reported after those that
        were asked meanwhile.
        """
        if len(self.parts) < 2:
            return
        try:
            starts = self.starts_ns
        except AskLessError:  # the one that asks for the column is reported
            return
        order = sorted(range(len(starts)), key=starts.__getitem__)
        if order == list(range(len(starts))):
            return
        self._order = order
        self._cold = {}
        for name in _COLUMNS:
            values = getattr(self, name)
            setattr(self, name, [values[i] for i in order])
        now = {before: after for after, before in enumerate(order)}
        for name in ("widths", "errors", "batches", "plans", "uses"):
            setattr(self, name, {now[i]: value for i, value in getattr(self, name).items()})

    @property
    def starts_ns(self) -> list[int]:
        """When each query began."""
        return self._column("start_ns")

    @property
    def digests(self) -> list[int]:
        """A checksum of each result."""
        return self._column("digest")

    @property
    def connections(self) -> list[int]:
        """The connection of each query."""
        return self._column("connection")

    @property
    def threads(self) -> list[int]:
        """The thread of each query."""
        return self._column("thread")

    @property
    def in_transaction(self) -> list[int]:
        """1 where a query ran inside a transaction."""
        return self._column("in_transaction")

    @property
    def parameters(self) -> list[tuple[Value, ...]]:
        """The bound parameters of each query."""
        return self._column("parameters")

    @property
    def samples(self) -> list[tuple[tuple[Value, ...], ...] | None]:
        """The first rows of each result, key-like columns only."""
        return self._column("sample")

    @property
    def literals(self) -> list[tuple[str, ...] | None]:
        """The literals of each query, if they are not those of the statement's first execution."""
        return self._column("literals")

    @property
    def server_fields(self) -> list[dict[str, RequestHints] | None]:
        """What else the server said of each query, by its own names; worth asking where
        `has_server_fields`.
        """
        return self._column("told")

    def database_ns(self) -> int:
        """How long any of its queries ran, noise left out: what runs at the same time counts
        once.
        """
        statements = self.tables.statements
        own = [i for i, number in enumerate(self.statements) if not statements[number].shape.noise]
        return union_ns([self.starts_ns[i] for i in own], [self.durations_ns[i] for i in own])

    def rows_examined(self, i: int) -> int | None:
        """The rows that the server read to answer query i, if it reported them; MariaDB's and
        MySQL's logs call them so.
        """
        hints = self.server_fields[i] if self.has_server_fields else None
        examined = hints.get("Rows_examined") if hints is not None else None
        return examined if isinstance(examined, int) else None

    def __len__(self) -> int:
        return len(self.statements)

    def statement(self, i: int) -> Statement:
        """The statement of query i."""
        return self.tables.statements[self.statements[i]]

    def text(self, i: int) -> str:
        """The text of query i."""
        return self.statement(i).text_with(self.literals[i])

    def values(self, i: int) -> tuple[Value, ...]:
        """The value in each slot of query i, literals included."""
        return self.statement(i).values(self.parameters[i], self.literals[i])

    def given(self, indices: Sequence[int]) -> list[object]:
        """What each of these queries of one shape was given, in a form to compare: in whatever form
        it was sent.

        Texts that are not the same, comments aside, hold their values in themselves.
        """
        if len({self.statements[i] for i in indices}) > 1:
            return [self.values(i) for i in indices]
        parameters, literals = self.parameters, self.literals
        first = self.statement(indices[0]).parts[1::2]
        return [(parameters[i], literals[i] or first) for i in indices]

    def hides_values(self, indices: Sequence[int]) -> bool:
        """Whether what some of these queries were given is not known: they have placeholders, and
        no one saw the parameters.
        """
        if "parameters" not in self.tables.unseen:
            return False
        parameters = self.parameters
        return any(
            not parameters[i] and any(slot.placeholder for slot in self.statement(i).slots)
            for i in indices
        )

    def place(self, i: int) -> CallSite | None:
        """The place of query i."""
        return self.tables.places.get(self.places[i])

    def load(self, i: int) -> Load | None:
        """What the ORM said of query i."""
        return self.tables.loads.get(self.loads[i])
