"""Which spans are queries, which request each belongs to, and which of them are one: decided once a
trace is whole, or quiet.

The request is the span with which a service begins to work (kind SERVER or CONSUMER), not the
trace: two requests may share a trace, and a parent in another service never arrives. A statement
belongs to the nearest such span above it. Pure: spans go in, requests go to a writer of their
service; time is whatever clock the caller goes by.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Protocol

import msgspec

from askless.core.errors import MALFORMED, described
from askless.core.records.model import CallSite
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from askless.sources.attribution.comments import strip_tags
from askless.sources.attribution.route_templates import route_of, template_of
from askless.sources.otlp import spans as names
from askless.sources.otlp.spans import (
    Span,
    first,
    number,
    parameters_of,
    place_of,
    system_of,
    with_own_placeholders,
)

SPANS_MOST = 200_000  # that wait at a time
_SLACK_NS = 1_000_000  # some clients cut the start of a span to the millisecond
_AT_ONCE_MOST = 16  # statements of one text that a request asks at once
_KNOWN_MOST = 20_000  # traces that are remembered once they were put together


class Target(Protocol):
    """Who takes the requests of one service."""

    def request_began(self, event: RequestBegan) -> None:
        """See `core.traffic.Receiver`."""

    def queries(self, request: int, events: Sequence[QuerySeen]) -> None:
        """See `core.traffic.Receiver`."""

    def request_ended(self, event: RequestEnded) -> None:
        """See `core.traffic.Receiver`."""

    def unclaimed(self, event: QuerySeen) -> None:
        """A query that no request is known for."""


class _Trace:
    """The spans of a trace that came so far."""

    __slots__ = ("first", "has_request", "last", "spans")

    def __init__(self, first: int) -> None:
        self.spans: list[Span] = []
        self.first = first
        self.last = 0
        self.has_request = False


class Query(msgspec.Struct, frozen=True):
    """A query that a span says of, the line of code that its comment names, and the spans that tell
    of the same one.
    """

    span: Span
    text: str
    system: str
    tagged: CallSite | None = None
    same: tuple[Span, ...] = ()


class Traces:
    """Takes spans as they come, in any order, and gives requests. `target` is asked for the taker
    of a service's requests.

    A trace is put together when nothing of it came for `quiet`, or for `patient` where no request
    of it is known yet: the request's own span comes last.
    """

    def __init__(
        self,
        target: Callable[[str, int], Target],
        quiet: int,
        patient: int,
        is_warm_up: Callable[[int], bool] = lambda _: False,
    ) -> None:
        """`is_warm_up` says whether a request that began at a time only warmed the application
        up.
        """
        self._target = target
        self._is_warm_up = is_warm_up
        self._quiet, self._patient = quiet, patient
        self._traces: dict[bytes, _Trace] = {}
        self._known: dict[bytes, None] = {}
        self._numbers = 0
        self.spans = 0
        self.requests = 0  # spans of requests that came
        self.late = 0  # queries that came when their trace had been put together
        self.orphans = 0  # spans whose parent never came, though their trace has a request
        self.unread = 0  # statements of systems that are not known here
        # spans of traces that could not be put together, and why the first could not
        self.broken = 0
        self.broken_reason = ""
        self.done: list[bytes] = []  # traces that were put together since someone last asked
        self._waiting = 0

    def add(self, arriving: Iterable[Span], now: int, payload: int = 0) -> None:
        """Count spans in. `payload` is the number of what they came in."""
        for span in arriving:
            self.spans += 1
            self.requests += span.is_request
            trace = self._traces.get(span.trace)
            if trace is None:
                if span.trace in self._known:
                    self.late += bool(span.text)
                    continue
                trace = self._traces[span.trace] = _Trace(payload)
            trace.spans.append(span)
            trace.last = now
            trace.has_request = trace.has_request or span.is_request
            self._waiting += 1
        while self._waiting > SPANS_MOST:
            self._put_together(next(iter(self._traces)))

    def has_seen(self, requests: int) -> bool:
        """Whether so many requests came, and no trace waits for its own: a program that is asked to
        stop sends nothing of its last batch.
        """
        # Another thread adds traces meanwhile.
        waiting = any(not trace.has_request for trace in list(self._traces.values()))
        return self.requests >= requests and not waiting

    def oldest(self, following: int) -> int:
        """The number of the first payload of which a trace still waits; `following` where none
        does.
        """
        return next((trace.first for trace in self._traces.values()), following)

    def settle(self, now: int) -> None:
        """Put together what has been quiet for long enough."""
        for name, trace in list(self._traces.items()):
            if now - trace.last >= (self._quiet if trace.has_request else self._patient):
                self._put_together(name)

    def close(self) -> None:
        """Nothing more comes."""
        for name in list(self._traces):
            self._put_together(name)

    def _put_together(self, name: bytes) -> None:
        trace = self._traces.pop(name)
        self._waiting -= len(trace.spans)
        self._known[name] = None
        if len(self._known) > _KNOWN_MOST:
            del self._known[next(iter(self._known))]
        self.done.append(name)
        try:
            self._requests_of(trace)
        except MALFORMED as error:
            # Spans are what anybody sends: one that no one foresaw costs its trace, and is counted.
            self.broken += len(trace.spans)
            self.broken_reason = self.broken_reason or described(error)

    def _requests_of(self, trace: _Trace) -> None:
        by_id = {span.id: span for span in trace.spans}
        requests = {
            span.id: span for span in trace.spans if span.is_request and _above(span, by_id) is None
        }
        if requests:
            self.orphans += sum(
                bool(span.parent)
                and span.parent not in by_id
                and not span.is_request
                and not span.remote
                for span in trace.spans
            )
        queries: dict[bytes, list[Query]] = {key: [] for key in requests}
        loose: list[Query] = []
        for query in self._queries(trace.spans):
            above = requests.get(query.span.parent) or _request_of(query.span, by_id, requests)
            (loose if above is None else queries[above.id]).append(query)
        for key, span in requests.items():
            self._request(span, _once(queries[key]), trace.spans, by_id)
        self._loose(_once(loose), by_id)

    def _queries(self, spans: Sequence[Span]) -> Iterable[Query]:
        for span in spans:
            text = span.text
            if not text:
                continue
            system = system_of(span.attributes)
            if system is None:
                self.unread += 1
                continue
            plain, tags = strip_tags(text)
            tagged = tags.place if tags is not None else None
            yield Query(span, with_own_placeholders(plain.strip(), system), system, tagged)

    def _request(
        self, span: Span, queries: Sequence[Query], spans: Sequence[Span], by_id: dict[bytes, Span]
    ) -> None:
        target = self._target(span.service, span.start_ns)
        self._numbers += 1
        route, kind, path = _named(span, spans, by_id)
        warm_up = bool(first(span.attributes, names.WARM_UP)) or self._is_warm_up(span.start_ns)
        trace = span.trace.hex()
        target.request_began(
            RequestBegan(
                self._numbers, route, span.start_ns, kind, path=path, warm_up=warm_up, trace=trace
            )
        )
        if queries:
            target.queries(self._numbers, [_seen(query, by_id) for query in queries])
        last_ns = max([span.end_ns, *(query.span.end_ns for query in queries)])
        target.request_ended(
            RequestEnded(self._numbers, last_ns, "", number(span.attributes, names.STATUS))
        )

    def _loose(self, queries: Sequence[Query], by_id: dict[bytes, Span]) -> None:
        """Queries that no request is known for: together where their trace holds several, else by
        other ways.
        """
        by_service: dict[str, list[Query]] = {}
        for query in queries:
            by_service.setdefault(query.span.service, []).append(query)
        for service, here in by_service.items():
            target = self._target(service, here[0].span.start_ns)
            if len(here) == 1:
                target.unclaimed(_seen(here[0], by_id))
                continue
            self._numbers += 1
            top = _top(here[0].span, by_id)
            route = top.name if not top.text else "a trace without its request"
            start_ns = min(min(query.span.start_ns for query in here), top.start_ns)
            trace = here[0].span.trace.hex()
            target.request_began(
                RequestBegan(self._numbers, route, start_ns, "marked", trace=trace)
            )
            target.queries(self._numbers, [_seen(query, by_id) for query in here])
            end_ns = max(top.end_ns, *(query.span.end_ns for query in here))
            target.request_ended(RequestEnded(self._numbers, end_ns))


def _chain(span: Span, by_id: dict[bytes, Span]) -> Iterable[Span]:
    """The spans above one, the nearest first; each once, whatever a broken client sends."""
    seen = {span.id}
    above = by_id.get(span.parent)
    while above is not None and above.id not in seen:
        seen.add(above.id)
        yield above
        above = by_id.get(above.parent)


def _above(span: Span, by_id: dict[bytes, Span]) -> Span | None:
    """The request of the same service that a request's span is in: a mounted application's, say;
    None for none.
    """
    if span.remote:
        return None
    for above in _chain(span, by_id):
        if above.service != span.service or above.kind in (names.CLIENT, names.PRODUCER):
            return None
        if above.is_request:
            return above
    return None


def _request_of(span: Span, by_id: dict[bytes, Span], requests: dict[bytes, Span]) -> Span | None:
    """The request that a query's span belongs to: above it, else the only one of its service that
    ran meanwhile.
    """
    for above in _chain(span, by_id):
        if above.id in requests:
            return above
    around = [
        one
        for one in requests.values()
        if one.service == span.service
        and one.start_ns - _SLACK_NS <= span.start_ns
        and span.end_ns <= one.end_ns + _SLACK_NS
    ]
    return around[0] if len(around) == 1 else None


def _top(span: Span, by_id: dict[bytes, Span]) -> Span:
    top = span
    for above in _chain(span, by_id):
        if above.service == span.service:
            top = above
    return top


def _once(queries: list[Query]) -> list[Query]:
    """The queries in the order of their starts, each once: an ORM's span and its driver's tell of
    one.

    Only across libraries: statements of one that overlap were asked at once. Which ends the other
    encloses tells nothing of their order, as some clients cut the start to the millisecond.
    """
    result: list[Query] = []
    by_text: dict[str, list[int]] = {}  # where the last of each text stand
    for query in sorted(queries, key=lambda query: (query.span.start_ns, -query.span.end_ns)):
        last = by_text.setdefault(query.text, [])
        same = next((place for place in reversed(last) if _is_same(result[place], query)), None)
        if same is None:
            last.append(len(result))
            del last[:-_AT_ONCE_MOST]
            result.append(query)
            continue
        other = result[same]
        inner, outer = sorted((other, query), key=lambda one: one.span.end_ns - one.span.start_ns)
        result[same] = msgspec.structs.replace(inner, same=(*inner.same, outer.span, *outer.same))
    return sorted(result, key=lambda query: query.span.start_ns)


def _is_same(one: Query, other: Query) -> bool:
    scopes = {one.span.scope, *(span.scope for span in one.same)}
    if other.span.scope in scopes or one.text != other.text:
        return False
    first_, second = one.span, other.span
    return any(
        outer.start_ns - _SLACK_NS <= inner.start_ns and inner.end_ns <= outer.end_ns + _SLACK_NS
        for outer, inner in ((first_, second), (second, first_))
    )


def _seen(query: Query, by_id: dict[bytes, Span]) -> QuerySeen:
    """A query as a capture holds it; what one of its spans does not tell, another one may."""
    span, telling = query.span, (query.span, *query.same)
    given = parameters_of(span.attributes)
    rows, batch = number(span.attributes, names.ROWS, -1), number(span.attributes, names.BATCH)
    tagged, error = query.tagged, span.error
    for other in query.same:
        given = given if given.values else parameters_of(other.attributes)
        rows = max(rows, number(other.attributes, names.ROWS, -1))
        batch = max(batch, number(other.attributes, names.BATCH))
        error = error or other.error
        if tagged is None and (tags := strip_tags(other.text)[1]) is not None:
            tagged = tags.place
    batch = max(batch, given.batch)
    places = (
        place_of(one.attributes) for first_ in telling for one in (first_, *_chain(first_, by_id))
    )
    return QuerySeen(
        text=query.text,
        start_ns=span.start_ns,
        duration_ns=max(span.end_ns - span.start_ns, 0),
        rows=rows,
        place=next(filter(None, places), None) or tagged,
        parameters=given.values,
        names=given.names,
        error=error,
        batch=batch if batch > 1 else 0,
        system=query.system,
    )


def _named(span: Span, spans: Sequence[Span], by_id: dict[bytes, Span]) -> tuple[str, str, str]:
    """What a request is called, of which kind it is, and its path."""
    attributes = span.attributes
    if span.kind == names.CONSUMER or first(attributes, names.DESTINATION):
        return f"job {first(attributes, names.DESTINATION) or span.name}", "job", ""
    called = first(attributes, names.METHOD_CALLED)
    if called:
        service = first(attributes, names.SERVICE_CALLED)
        return f"{service}/{called}" if service else str(called), "call", ""
    method = str(first(attributes, names.METHOD) or "")
    route = first(attributes, names.ROUTE) or next(
        (
            named
            for other in spans
            if (named := first(other.attributes, names.ROUTE)) and span in _chain(other, by_id)
        ),
        None,
    )
    path = _path(first(attributes, names.PATH))
    if route:
        return f"{method} {template_of(str(route))}".strip(), "http", path
    if path:
        return route_of(method or "GET", path), "http", path
    return span.name, "http" if method else "marked", ""


def _path(value: object) -> str:
    """The path of a URL, or of a target; what is after ? is of one request alone."""
    text = str(value or "").split("?")[0]
    return "/" + text.split("://", 1)[1].partition("/")[2] if "://" in text else text
