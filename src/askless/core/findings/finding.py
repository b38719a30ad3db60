"""Findings and advice: frozen records in plain words and plain numbers, the same for every
output.
"""

from __future__ import annotations

from collections.abc import Sequence
from hashlib import blake2b

import msgspec

from askless.core.findings.severities import SEVERITIES
from askless.core.records.model import VAGUE

NO_LINE = (
    "the line of code is unknown: let the application end each statement with a comment that names "
    "its file, controller or action, as in /*controller='calls',action='due'*/"
)


class SourceLine(msgspec.Struct, frozen=True):
    """A line of the application's code. `queries` is how many of the finding's queries came from
    it; `digest` is that of the line's text as it ran, 0 where it is not known.
    """

    file: str
    line: int
    function: str
    queries: int = 0
    digest: int = 0


class Advice(msgspec.Struct, frozen=True):
    """A change to try. `code` is in the application's words and is at `at`; `sql` is what it sends
    afterwards.
    """

    title: str
    why: str
    sql: str = ""
    code: str = ""
    at: SourceLine | None = None
    saving: str = ""
    trade_offs: str = ""
    verify: tuple[str, ...] = ()


class Cost(msgspec.Struct, frozen=True):
    """What a finding costs. Times are as the application saw them, round trip included.

    `avoidable` queries per request, of the median duration `query_ms`, take `database_ms`; with the
    application's own work around each, and with the way to the database where one is assumed,
    `saving_ms`. `share` is saving_ms over the request's time. `total_ms` is saving_ms over the
    whole capture, requests that were omitted by chance included. `bytes` and `rows` are what need
    not be fetched, per request. `loop_ms` is the mean time from the first query of a repetition to
    its last, the application's own work between them included.
    """

    queries: float = 0.0
    avoidable: float = 0.0
    query_ms: float = 0.0
    database_ms: float = 0.0
    saving_ms: float = 0.0
    share: float = 0.0
    total_ms: float = 0.0
    loop_ms: float = 0.0
    rows: float = 0.0
    bytes: float = 0.0


class Finding(msgspec.Struct, frozen=True):
    """One pattern met in one route.

    `key` identifies the cause, from one capture to the next: pattern, route, what is done to which
    table, and the columns that are compared. Columns that are fetched, joins, batch sizes, files
    and lines are not part of it. `evidence` is traced, keyed or repeated. `source` is the line of
    the earlier query that supplied the keys; `summary` is the title in a few words; `callers` are
    the lines that asked through one helper. `relation` is the ORM's, as in "PortCall.vessel".
    """

    key: str
    pattern: str
    variant: str
    severity: str
    route: str
    title: str
    evidence: str
    evidence_details: tuple[str, ...]
    cost: Cost
    requests: int
    shape: str
    sql: str
    tables: tuple[str, ...]
    lines: tuple[SourceLine, ...]
    path: tuple[SourceLine, ...]
    advice: tuple[Advice, ...]
    caveats: tuple[str, ...] = ()
    source: SourceLine | None = None
    callers: tuple[SourceLine, ...] = ()
    relation: str = ""
    summary: str = ""
    source_role: str = "keys"  # what `source` supplied: the keys, or the rows themselves


class Edit(msgspec.Struct, frozen=True):
    """A change of one line. `findings` are the names of those that it fixes, the one that saves
    most first.

    `code` is the whole call, '' where there is none. On the first of `routes`, the one that gains
    most, it changes `requests` of its `requests_in_route`: their `queries` are `queries_after` then
    (medians; `queries_least` and `queries_most` are those of the requests with the fewest and the
    most), and `saving_ms` of `request_ms` are saved in each. `total_ms` is what it
    saves over the capture on all routes. `other_routes` run the same line, and gain nothing.

    `orm`, `model` and `relation` are those of the query that is changed: a relation where it is a
    related manager's. `model_modules` are the Python modules of the models that `code` names.
    """

    findings: tuple[str, ...]
    severity: str
    routes: tuple[str, ...]
    title: str
    at: SourceLine | None
    code: str
    queries: float
    queries_after: float
    saving_ms: float
    request_ms: float
    total_ms: float
    requests: int
    requests_in_route: int
    queries_least: float
    queries_least_after: float
    queries_most: float
    queries_most_after: float
    other_routes: tuple[str, ...]
    orm: str = ""
    model: str = ""
    relation: str = ""
    model_modules: dict[str, str] = {}

    @property
    def is_read_by_key(self) -> bool:
        """Whether `code` gives options to SQLAlchemy's `session.get`."""
        return self.code.startswith("session.get(")

    @property
    def is_call(self) -> bool:
        """Whether `code` is a call that can be put to one query, not words."""
        return self.code.startswith(".") or self.is_read_by_key


def finding_key(pattern: str, route: str, cause: str) -> str:
    """Eight hexadecimal characters that name a finding from one capture to the next."""
    return blake2b(
        f"{pattern}|{route}|{cause}".encode("utf-8", "replace"), digest_size=4
    ).hexdigest()


URGENT_SHARE = 0.25  # of the request's time


def severity(share: float, avoidable: float) -> str:
    """How much it matters: by the share of the request's time. Many queries take more of it the
    longer their way is.
    """
    if share >= URGENT_SHARE:
        return "urgent"
    return "worthwhile" if share >= 0.08 or avoidable >= 20 else "minor"


def severity_in(kind: str, of_cost: str) -> str:
    """The severity on a route of a kind: where a request may be several, none is urgent."""
    return "worthwhile" if of_cost == "urgent" and kind in VAGUE else of_cost


def ranked(findings: Sequence[Finding]) -> list[Finding]:
    """By what they save over the whole capture, then by severity; ties by key, so that the order is
    stable.
    """
    return sorted(
        findings,
        key=lambda f: (
            SEVERITIES.index(f.severity),
            -f.cost.total_ms,
            -f.cost.bytes,
            -f.cost.rows,
            f.route,
            f.key,
        ),
    )
