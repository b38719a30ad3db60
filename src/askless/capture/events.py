"""The capture format, version 1: one JSON object a line, each an event of one of these types.

The first line is a `capture` event. A text, a line of code, and what an ORM said are stored once,
under a number, and referred to by it. The queries of a request are stored by column: a column that
is the same number for all queries of the event may be written as that number alone. `askless schema
capture` prints the JSON Schema made from these types.
"""

from __future__ import annotations

from typing import Annotated, Any, get_args

import msgspec

from askless.core.records.model import RequestHints
from askless.core.records.sampling import Counts, Evicted
from askless.core.sql.slots import Value

FORMAT = "askless capture"
VERSION = 1

Meta = msgspec.Meta
# Far beyond any count, size or clock (2^62 ns after 1970 is the year 2116), and sums and
# differences stay in 64 bits.
_MOST = (1 << 62) - 1
Whole = Annotated[int, Meta(ge=-_MOST, le=_MOST)]
Numbers = list[Whole] | Whole
Names = list[int] | int  # numbers that no one reckons with: checksums, names of threads

RAW = msgspec.Raw()

# The raw columns of a `queries` event: their types, and the value where a column is omitted.
COLD_TYPES: dict[str, tuple[Any, Any]] = {
    "start_ns": (list[Whole], 0),
    "digest": (Names, 0),
    "connection": (Numbers, 0),
    "in_transaction": (Numbers, 0),
    "thread": (Names, 0),
    "parameters": (list[tuple[Value, ...]], ()),
    "sample": (list[tuple[tuple[Value, ...], ...] | None], None),
    "literals": (list[tuple[str, ...] | None], None),
    "told": (list[dict[str, RequestHints] | None], None),
}
COLD = {name: (msgspec.json.Decoder(kind), default) for name, (kind, default) in COLD_TYPES.items()}


class Event(msgspec.Struct, tag_field="event", gc=False, omit_defaults=True):
    """What all events share: the field `event` tells the type."""


class Capture(Event, tag="capture"):
    """The first line: what recorded, when, and the clock that all `_ns` times of this file are read
    from.
    """

    format: str
    version: Whole
    recorder: str = ""
    pid: Whole = 0
    program: str = ""
    python: str = ""
    started_unix_s: float = 0.0
    clock_ns: Annotated[Whole, Meta(description="the clock at started_unix_s")] = 0
    unseen: Annotated[
        tuple[str, ...], Meta(description="fields that the recorder can't see: parameters, results")
    ] = ()
    sample: Annotated[
        Whole, Meta(description="one in this many requests is recorded, at random")
    ] = 1
    slower_ns: Annotated[Whole, Meta(description="requests that took less are not recorded")] = 0
    at_most: Annotated[Whole, Meta(description="queries recorded per request; 0: all")] = 0

    @property
    def omits(self) -> bool:
        """Whether whole requests may have been left out."""
        return self.sample > 1 or self.slower_ns > 0


class StatementEvent(Event, tag="statement"):
    """A statement's text under a number: text that stays and literals of the first execution, in
    turns.
    """

    id: Whole
    text: tuple[str, ...]
    system: str = ""
    names: Annotated[tuple[str, ...], Meta(description="parameter names, if they have names")] = ()


class Forget(Event, tag="forget"):
    """Statements with numbers below `before` are not referred to any more: the recorder has
    released their texts.
    """

    before: Whole


class Columns(Event, tag="columns"):
    """The columns of a statement's result, and which of them `sample` holds.

    `origins`: the table and column that each comes from, if the server tells ("vessel.id"; "" for
    none).
    """

    statement: Whole
    names: tuple[str, ...]
    sampled: tuple[Whole, ...] = ()
    origins: tuple[str, ...] = ()


class PlaceEvent(Event, tag="place"):
    """A line of the application's code; `caller` is the place that called it, 0 for none. `digest`
    is the CRC-32 of the line's text, the space around it aside; 0 where it is not known.
    """

    id: Whole
    file: str
    line: Whole
    function: str
    caller: Whole = 0
    digest: Whole = 0


class LoadEvent(Event, tag="load"):
    """What an ORM said of a query: kind (lazy, eager, refresh, query, library, write), the relation
    that it served, and the columns ("Vessel.flag") that its options name and defer. `unchanged`: it
    asks for the relation as its manager gives it; None where that is not known.
    """

    id: Whole
    orm: str
    kind: str
    model: str = ""
    relation: str = ""
    target: str = ""
    many: bool = False
    named: tuple[str, ...] = ()
    deferred: tuple[str, ...] = ()
    unchanged: bool | None = None


class Relation(msgspec.Struct, array_like=True, frozen=True):
    """A relation of a model: its columns on both sides, the table between them, if there is one,
    and its name in queries where that is another one.
    """

    target: str
    many: bool
    local: tuple[str, ...] = ()
    remote: tuple[str, ...] = ()
    link: str = ""
    queried: str = ""


class ModelEvent(Event, tag="model"):
    """A model of the ORM: its table, the attribute of each column, its relations by name, and the
    columns that it needs besides its keys: what tells its class, its version; the Python module
    that defines it, and the model that it is a class of.
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


class Used(msgspec.Struct, array_like=True, frozen=True):
    """What became of the objects of one model that one query loaded.

    `query` is its place in the request, from 0. `touched` of the `objects` were looked at by the
    application; `columns` ("table.column") and `relations` count the objects of which each was
    read.
    """

    query: Whole
    model: str
    objects: Whole
    touched: Whole
    columns: dict[str, Whole]
    relations: dict[str, Whole] = {}


class UseEvent(Event, tag="use"):
    """What the application read of a request's results; only if that was tracked."""

    request: Whole
    used: tuple[Used, ...]


class WaitEvent(msgspec.Struct, array_like=True, frozen=True):
    """What the application waited for next to its queries. `kind`: http, mail, program, sleep;
    `what` names the other side.
    """

    kind: str
    what: str
    start_ns: Whole
    duration_ns: Whole
    place: Whole = 0


class WaitsEvent(Event, tag="errands"):
    """What the application waited for in a request, next to its queries, as far as the recorder
    knows.
    """

    request: Whole
    errands: tuple[WaitEvent, ...]


class RequestEvent(Event, tag="request"):
    """A request begins. `kind`: http, call (gRPC), job, command, test, marked (by hand), program
    (all that is outside of requests).
    """

    id: Whole
    kind: str
    route: str
    start_ns: Whole
    thread: int = 0
    path: str = ""
    warm_up: bool = False


class Queries(Event, tag="queries"):
    """Queries of one request, by column. `bytes` counts the values of the result with four bytes of
    length each.

    `digest` is a checksum of the result's first 32 rows and its row count; `sample` holds these
    rows' key-like columns. `parameters`: a value that JSON has no word for is [type, text].
    `literals`: if a query's literals are not those of the statement's first execution. `widths`,
    `error`, `batch` and `plan` are sparse, by position: bytes of each column, the error's text, the
    number of parameter sets of an executemany, the plan it ran by as the server wrote it. `told`
    has the other fields of a server's log, by the server's names (Rows_examined).
    """

    request: Whole
    count: Whole
    statement: Numbers
    duration_ns: list[Whole]
    rows: Numbers = 0
    bytes: Numbers = 0
    place: Numbers = 0
    load: Numbers = 0
    widths: dict[int, list[Whole]] | None = None
    error: dict[int, str] | None = None
    batch: dict[int, Whole] | None = None
    plan: dict[int, str] | None = None
    # What few reports need is decoded on first use.
    start_ns: msgspec.Raw = RAW
    digest: msgspec.Raw = RAW
    connection: msgspec.Raw = RAW
    in_transaction: msgspec.Raw = RAW
    thread: msgspec.Raw = RAW
    parameters: msgspec.Raw = RAW
    sample: msgspec.Raw = RAW
    literals: msgspec.Raw = RAW
    told: msgspec.Raw = RAW

    @property
    def has_server_fields(self) -> bool:
        """Whether servers said more of some query."""
        return bool(self.told)

    def column(self, name: str) -> list[Any]:
        """One of the raw columns, an entry a query. Raises msgspec.DecodeError where it is not what
        it should be.
        """
        raw = getattr(self, name)
        decoder, default = COLD[name]
        if not raw:
            return [default] * self.count
        values = decoder.decode(raw)
        return [values] * self.count if isinstance(values, int) else values


class End(Event, tag="end"):
    """A request ends; its route may be better known by now. `status` is an HTTP status, 0 if there
    is none.

    `memory_bytes` is the most memory it took beyond what was held when it began, 0 if that is not
    known. `more` counts its queries that were omitted, being more than were wished for; `more_ns`
    is what they took.
    """

    request: Whole
    end_ns: Whole
    route: str = ""
    status: Whole = 0
    memory_bytes: Whole = 0
    more: Whole = 0
    more_ns: Whole = 0


class LeftOut(Event, tag="left-out"):
    """What was omitted since the last such line, by route: see `Counts`. `dropped` says of files of
    the capture that are gone.
    """

    routes: dict[str, Counts] = {}
    dropped: Evicted = Evicted()


class Note(Event, tag="note"):
    """Something that the recorder could not do."""

    text: str


class Lost(Event, tag="lost"):
    """Input that reached the recorder and is not in the capture: `count` of `what` (spans, lines),
    and why.
    """

    count: Whole
    what: str
    reason: str


class Modules(Event, tag="modules"):
    """What the program has imported so far: what is recorded of it, and what is not known.

    `code` are the installed packages that count as the application; `serves` says that the program
    listens.
    """

    watched: tuple[str, ...] = ()
    unknown: tuple[str, ...] = ()
    code: tuple[str, ...] = ()
    serves: bool = False


class Close(Event, tag="close"):
    """The last line of a recorder that finished normally. `spent_ns` is about what recording itself
    took.
    """

    requests: Whole
    queries: Whole
    spent_ns: Whole = 0


AnyEvent = (
    Capture
    | StatementEvent
    | Forget
    | Columns
    | PlaceEvent
    | ModelEvent
    | LoadEvent
    | RequestEvent
    | Queries
    | UseEvent
    | WaitsEvent
    | End
    | LeftOut
    | Note
    | Lost
    | Modules
    | Close
)


def json_schema() -> dict[str, Any]:
    """The JSON Schema of one line of a capture file, the raw columns spelled out."""
    raw = [
        (name, kind, msgspec.field(default=default)) for name, (kind, default) in COLD_TYPES.items()
    ]
    fields = [
        (
            field.name,
            field.type,
            msgspec.field(default=field.default) if not field.required else msgspec.field(),
        )
        for field in msgspec.structs.fields(Queries)
        if field.name not in COLD_TYPES
    ]
    spelled = msgspec.defstruct("Queries", [*fields, *raw], tag_field="event", tag="queries")
    spelled.__doc__ = Queries.__doc__
    union: Any = spelled
    for kind in get_args(AnyEvent):
        if kind is not Queries:
            union = union | kind
    schema = msgspec.json.schema(union)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"{FORMAT}, version {VERSION}",
        **schema,
    }
