"""What happened, as any source says it: a request began, it asked, it ended.

A source turns what it reads into these records and gives them to a `Receiver`: the writer of a
capture, or the assembler that makes requests of them in memory. Times are nanoseconds on one clock
of the source's choice.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Protocol, TypeVar

import msgspec

from askless.core.records.model import CallSite, Load, Model, RequestHints, Used, Wait
from askless.core.sql.slots import Value

Thing = TypeVar("Thing")


class RequestBegan(msgspec.Struct, frozen=True):
    """A request begins. `request` is a number of the source's choice that no other request of it
    has.

    `kind`: http, call (gRPC), job, command, test, marked (by hand, or by what its queries say),
    connection (all that came over one), paused (what came over one between two pauses), program
    (all that is outside of requests). `trace` is the id of its trace, in hexadecimal digits, if
    that is known.
    """

    request: int
    route: str
    start_ns: int
    kind: str = "http"
    thread: int = 0
    path: str = ""
    warm_up: bool = False
    trace: str = ""


class QuerySeen(msgspec.Struct, frozen=True):
    """One execution of a statement, with everything that a capture can hold of it.

    `names` are those of the parameters, if they have names. `columns` name the result's columns,
    `origins` the table and column that each comes from ("vessel.id"), if the server tells;
    `sampled` says which of them `sample` holds of the first rows. `widths` are the bytes of each
    column over all rows. `batch` is the number of parameter sets of an executemany, `error` the
    text of the error it ended in. `uses` says what the application read. `system` is whose SQL it
    is; '' for the receiver's. `plan` is the plan that it ran by, as the server wrote it.
    `server_fields` has the other fields that the server reports, by its names (Rows_examined).
    """

    text: str
    start_ns: int
    duration_ns: int
    rows: int = 0
    bytes: int = 0
    digest: int = 0
    place: CallSite | None = None
    load: Load | None = None
    connection: int = 1
    in_transaction: bool = False
    thread: int = 0
    parameters: tuple[Value, ...] = ()
    names: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    sampled: tuple[int, ...] = ()
    sample: tuple[tuple[Value, ...], ...] | None = None
    widths: tuple[int, ...] = ()
    error: str = ""
    batch: int = 0
    uses: tuple[Used, ...] = ()
    origins: tuple[str, ...] = ()
    system: str = ""
    plan: str = ""
    server_fields: dict[str, RequestHints] = {}


def by_position(values: Iterable[Thing]) -> dict[int, Thing] | None:
    """A column that few queries have, by their positions; None if none of them has it."""
    return {i: value for i, value in enumerate(values) if value} or None


class RequestEnded(msgspec.Struct, frozen=True):
    """A request ends; its route may be better known by now. `status` is an HTTP status, 0 if there
    is none.

    `memory_bytes` is the most memory it took beyond what was held when it began, 0 if that is not
    known. `more` counts its queries that were omitted, being more than were wished for, `more_ns`
    is their time.
    """

    request: int
    end_ns: int
    route: str = ""
    status: int = 0
    memory_bytes: int = 0
    more: int = 0
    more_ns: int = 0


class Receiver(Protocol):
    """Who takes what a source tells. Queries are in the SQL of the receiver's system, unless they
    say otherwise.
    """

    def request_began(self, event: RequestBegan) -> None:
        """A request begins."""

    def queries(self, request: int, events: Sequence[QuerySeen]) -> None:
        """Queries of a request that has begun, in order of their starts. Raises KeyError for one
        that has not.
        """

    def errands(self, request: int, errands: Sequence[Wait]) -> None:
        """What an open request waited for next to its queries. Raises KeyError for one that has not
        begun.
        """

    def request_ended(self, event: RequestEnded) -> None:
        """A request ends. Raises KeyError for one that has not begun."""

    def model(self, model: Model) -> None:
        """A model of the application's ORM becomes known."""

    def note(self, text: str) -> None:
        """Something that the source could not do."""
