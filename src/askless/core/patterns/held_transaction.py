"""held-transaction: a transaction that stays open, with what it holds, while the application does
something else.

Not flagged: short pauses, a pause before the first query of a transaction, a long result that may
have been read meanwhile, a pause that most requests do not make, a pause in which nothing is held
(unless it is known what it was for).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from askless.core.aggregation.request_view import RequestView
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import RouteStats, Tally
from askless.core.findings.finding import Cost
from askless.core.findings.remedies import ShortenTransaction
from askless.core.formatting import plural
from askless.core.inference.context import Context
from askless.core.inference.transactions import (
    Gap,
    Transaction,
    gaps_of,
    takes_lock,
    transactions_of,
)
from askless.core.patterns.base import (
    ByRequests,
    Diagnosis,
    FindingDraft,
    Match,
    Rule,
    ShapeTally,
    add_counts,
    call_path,
    lines_of,
    met_of,
    writes_of,
)
from askless.core.records.model import CallSite, Request, Wait
from askless.core.settings import Settings
from askless.core.sql.structure import EVERYTHING
from askless.core.statistics import Quantiles

RULE = Rule(
    "held-transaction",
    "a transaction that is open while the application does something else",
    "20 ms or more for a known call, program or sleep; 50 ms for unknown work while locks are held",
    "short pauses, pauses before the first query, long results that may have been read meanwhile",
)
_STREAMED_ROWS = 32  # a result of more rows may be read bit by bit: then a pause is its reading
_KNOWN_SHARE = 0.5  # of a pause, that errands must cover to explain it
_ONCE_TIMES = 4  # that much longer is a pause that was seen once, of a cause that is not known
_URGENT_MS = 100.0  # the one that waits for a lock that long is a slow page too
_DOING = {
    "http": "waits for an HTTP response",
    "mail": "sends mail",
    "program": "waits for another program",
    "sleep": "sleeps",
}
_ALL = "and thereby the whole database (SQLite)"


class HeldTotals(ShapeTally):
    """Transactions of one route that wait after one statement of one place.

    `written` counts rows written before the pause, by table, `locked` queries that locked rows or
    the whole database. `errands` counts what was done meanwhile, by kind and by whom it was asked
    of; `known` the pauses that they explain.
    """

    def __init__(self, stats: ShapeStats) -> None:
        super().__init__(stats)
        self.gaps_ns, self.idle_ns, self.open_ns = Quantiles(), Quantiles(), Quantiles()
        self.written: Counter[str] = Counter()
        self.locked: Counter[str] = Counter()
        self.errands: Counter[tuple[str, str]] = Counter()
        self.errand_places: dict[CallSite, int] = {}
        self.known = 0
        self.executions = 0  # of the statement before the pause, in these transactions

    @property
    def transactions(self) -> int:
        """How many were met."""
        return self.gaps_ns.count

    def merge(self, other: Tally) -> None:
        """Add another piece's tally."""
        super().merge(other)
        assert isinstance(other, HeldTotals)
        self.gaps_ns.merge(other.gaps_ns)
        self.idle_ns.merge(other.idle_ns)
        self.open_ns.merge(other.open_ns)
        self.written.update(other.written)
        self.locked.update(other.locked)
        self.errands.update(other.errands)
        self.known += other.known
        self.executions += other.executions
        add_counts(self.errand_places, other.errand_places)


class HeldTransaction(ByRequests[HeldTotals]):
    """See the module."""

    rule = RULE

    def look(self, view: RequestView, settings: Settings) -> None:
        """Find transactions with a long pause in one request."""
        request = view.request
        if request.idle_ns < settings.pause_least_ns or not any(request.in_transaction):
            return
        waiting: dict[tuple[str, ...], list[int]] = {}
        for transaction in transactions_of(request):
            gaps = gaps_of(request, transaction)
            longest = max(gaps, key=lambda gap: gap.lasted_ns, default=None)
            if longest is None or longest.lasted_ns < settings.pause_least_ns:
                continue
            speaking = [
                i
                for i in transaction.queries[: longest.place + 1]
                if not request.statement(i).shape.noise
            ]
            stats = (
                view.route.shapes.get(request.statement(speaking[-1]).shape.digest)
                if speaking
                else None
            )
            if stats is None or stats.structure is None:
                continue
            one = HeldTotals(stats)
            _fill(one, view, transaction, gaps, longest)
            if _counts(one, longest, request, settings):
                name = (stats.shape.digest, *call_path(request, speaking[-1]))
                waiting.setdefault(name, []).append(speaking[-1])
                self.tallies(view.route).setdefault(name, HeldTotals(stats)).merge(one)
        for name, indices in waiting.items():
            self.tallies(view.route)[name].add(request, indices)

    def judge(
        self, route: RouteStats, context: Context, diagnoses: list[Diagnosis]
    ) -> Iterable[Diagnosis]:
        """One a place, where most of the transactions that come there wait."""
        for tally in self.tallies(route).values():
            if 2 * tally.executions >= tally.stats.count and _is_sure(tally, context.settings):
                yield _diagnosis(tally, met_of(tally, route, context))


def _is_sure(tally: HeldTotals, settings: Settings) -> bool:
    """Whether it is not an accident: of a cause that is not known, a second one was seen, or the
    pause is long.
    """
    long_ns = _ONCE_TIMES * settings.unknown_pause_ms * 1e6
    return bool(tally.known) or tally.transactions > 1 or tally.gaps_ns.median >= long_ns


def _add_locks(tally: HeldTotals, view: RequestView, before: set[int]) -> None:
    """What the queries ahead of a pause wrote and locked."""
    request = view.request
    for i, table in writes_of(view):
        if i in before and table != EVERYTHING:
            tally.written[table] += max(request.rows[i], 0)
            if request.statement(i).system == "sqlite":
                tally.locked[_ALL] += 1
    for i in before:
        statement = request.statement(i)
        if takes_lock(statement):
            tally.locked[_ALL] += 1
            continue
        structure = statement.structure if not statement.shape.noise else None
        if structure is not None and structure.locks and structure.main:
            tally.locked[f"{plural(max(request.rows[i], 0), 'row')} of {structure.main}"] += 1


def _fill(
    tally: HeldTotals, view: RequestView, transaction: Transaction, gaps: list[Gap], longest: Gap
) -> None:
    """Add one transaction: its times, what it held in its longest pause, and what was done
    meanwhile.
    """
    request = view.request
    starts, durations = request.starts_ns, request.durations_ns
    digest = tally.stats.shape.digest
    tally.executions = sum(request.statement(i).shape.digest == digest for i in transaction.queries)
    last = transaction.queries[-1] if transaction.end is None else transaction.end
    tally.gaps_ns.extend([longest.lasted_ns])
    tally.idle_ns.extend([sum(max(gap.lasted_ns, 0) for gap in gaps)])
    tally.open_ns.extend([starts[last] + durations[last] - starts[transaction.queries[0]]])
    _add_locks(tally, view, set(transaction.queries[: longest.place + 1]))
    errands = _errands_in(request, longest)
    if sum(errand.duration_ns for errand in errands) >= _KNOWN_SHARE * longest.lasted_ns:
        tally.known = 1
        for errand in errands:
            tally.errands[errand.kind, errand.what] += 1
            if errand.place is not None:
                add_counts(tally.errand_places, {errand.place: 1})


def _errands_in(request: Request, gap: Gap) -> list[Wait]:
    """What the application waited for in a pause; side by side counts once."""
    end_ns = gap.start_ns + gap.lasted_ns
    results: list[Wait] = []
    reached_ns = gap.start_ns - 1_000_000
    for errand in sorted(request.errands, key=lambda errand: errand.start_ns):
        if reached_ns <= errand.start_ns < end_ns:
            results.append(errand)
            reached_ns = errand.start_ns + errand.duration_ns
    return results


def _counts(one: HeldTotals, gap: Gap, request: Request, settings: Settings) -> bool:
    """Whether a pause is sure enough: its cause is known, or it is long, something is held, and
    nothing can be read in it.
    """
    if one.known:
        return True
    is_long = gap.lasted_ns >= settings.unknown_pause_ms * 1e6
    return (
        is_long and bool(one.written or one.locked) and request.rows[gap.before] <= _STREAMED_ROWS
    )


def _diagnosis(tally: HeldTotals, met: Match) -> Diagnosis:
    gap_ms, idle_ms, open_ms = (
        one.median / 1e6 for one in (tally.gaps_ns, tally.idle_ns, tally.open_ns)
    )
    share = min(idle_ms / open_ms, 1.0) if open_ms else 0.0
    holds = _holds(tally)
    doing = _doing(tally)
    because = [
        f"{plural(tally.transactions, 'transaction')} in {plural(tally.requests, 'request')}; the "
        f"longest pause of each takes {gap_ms:,.0f} ms (median), after a query of "
        f"{met.structure.main or 'the database'}",
        f"held meanwhile: {holds}"
        if holds
        else "nothing was written or locked before the pause: "
        "it only holds a connection and an old snapshot",
    ]
    if tally.errands:
        because.append(
            "meanwhile: "
            + ", ".join(f"{_named(key)} ({times}x)" for key, times in tally.errands.most_common(4))
        )
    severity = "minor" if not holds else "urgent" if gap_ms >= _URGENT_MS else "worthwhile"
    claim = FindingDraft(
        variant="locks held" if holds else "nothing locked",
        severity=severity,
        title=f"a transaction is open for {open_ms:,.0f} ms, {100 * share:.0f} % of it idle: the "
        f"application {doing}" + (f" and holds {holds}" if holds else ""),
        summary=f"open for {open_ms:,.0f} ms, {100 * share:.0f} % idle: the application {doing}"
        + (f", holds {holds}" if holds else ""),
        evidence="traced",
        evidence_details=tuple(because),
        cost=Cost(queries=tally.per_request, query_ms=met.stats.query_ns / 1e6),
        caveats=()
        if tally.errands
        else (
            "the application's activity meanwhile is unknown: its own work, or an unsupported call",
        ),
    )
    at = next(iter(lines_of(tally.errand_places)), met.line)
    saving = (
        f"about {gap_ms:,.0f} ms less during which its locks block others; the page itself takes "
        "as long as before"
    )
    remedy = ShortenTransaction(
        stats=met.stats, line=at, saving=saving, locking=bool(holds), known=bool(tally.errands)
    )
    return Diagnosis(met.finding(RULE, claim), remedy)


def _holds(tally: HeldTotals) -> str:
    """What was locked, for each transaction."""
    rows = [
        f"{plural(count / tally.transactions, 'row')} of {table}"
        for table, count in tally.written.most_common(3)
        if count
    ]
    others = [what for what, _ in tally.locked.most_common(3)]
    return ", ".join(dict.fromkeys([*rows, *others]))


def _doing(tally: HeldTotals) -> str:
    if not tally.errands:
        return "does something else"
    (kind, what), _ = tally.errands.most_common(1)[0]
    return f"{_DOING.get(kind, 'waits')}" + (f" ({what})" if what else "")


def _named(key: tuple[str, str]) -> str:
    kind, what = key
    return f"{kind} {what}".strip() if kind != "http" else f"HTTP {what}"


PATTERN = HeldTransaction()
