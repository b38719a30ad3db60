"""Requests as spans of OpenTelemetry, in OTLP's JSON, by the conventions of today; findings as
events of their request's span.

Ids are made of what they name, so that the same capture gives the same spans.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from hashlib import blake2b
from typing import Any

import askless
from askless.core.findings.finding import Finding
from askless.core.json_encoding import encoded
from askless.core.sql.slots import Value
from askless.output import finding_text
from askless.output.text import safe
from askless.reports.columns import RequestRecord, TimedRequest, query_records, request_record

SERVER, CONSUMER, CLIENT = 2, 5, 3
_ERROR = 2
Json = dict[str, Any]


def payload(
    arrived: Sequence[TimedRequest],
    findings: dict[str, list[Finding]],
    service: str,
    values: bool = False,
) -> bytes:
    """An export request with these requests, on one line. `findings` are those of each route."""
    spans = [
        span for one in arrived for span in _spans(one, findings.get(one.request.route, []), values)
    ]
    whole = {
        "resourceSpans": [
            {
                "resource": {"attributes": _attributes({"service.name": service})},
                "scopeSpans": [
                    {"scope": {"name": "askless", "version": askless.__version__}, "spans": spans}
                ],
            }
        ]
    }
    return encoded(whole)


def _parameters(values: Sequence[Value]) -> Json:
    return {f"db.query.parameter.{place}": _plain(value) for place, value in enumerate(values)}


def _of_request(record: RequestRecord) -> Json:
    """What a request's own span says of it."""
    known: Json = {
        "askless.route": record.route,
        "askless.request": record.name,
        "askless.warm_up": record.warm_up or None,
    }
    method, _, path = record.route.partition(" ")
    if record.kind == "http" and path.startswith("/"):
        known |= {
            "http.request.method": method,
            "http.route": path,
            "url.path": record.path or None,
            "http.response.status_code": record.status or None,
        }
    if record.kind == "job":
        known["messaging.destination.name"] = record.route.removeprefix("job ")
    return known


def _spans(one: TimedRequest, findings: Sequence[Finding], values: bool) -> Iterable[Json]:
    request = one.request
    record = request_record(one, values)
    offset_ns = int((one.unix_s or 0.0) * 1e9) - request.start_ns if one.unix_s is not None else 0
    trace = blake2b(
        f"{one.started_unix_s}|{one.clock_ns}|{record.name}".encode(), digest_size=16
    ).hexdigest()
    root = _id(trace, 0)
    shapes = set()
    for query in query_records(request, values):
        i = query.number - 1
        shapes.add(query.shape)
        start_ns = request.starts_ns[i] + offset_ns
        given = _parameters(request.parameters[i]) if values else {}
        name = query.statement.split(None, 1)[0].upper()[:40] if query.statement else "query"
        yield _span(
            (trace, _id(trace, query.number), root),
            name,
            CLIENT,
            (start_ns, start_ns + request.durations_ns[i]),
            {
                "db.system.name": query.system,
                "db.query.text": query.statement,
                "db.response.returned_rows": query.rows,
                "code.file.path": query.file,
                "code.line.number": query.line or None,
                "code.function.name": query.function,
                "askless.shape": query.shape,
                **given,
            },
            query.error,
        )
    start_ns, end_ns = request.start_ns + offset_ns, request.end_ns + offset_ns
    kind = CONSUMER if record.kind == "job" else SERVER
    span = _span((trace, root, ""), record.route, kind, (start_ns, end_ns), _of_request(record))
    span["events"] = [_event(finding, start_ns) for finding in findings if finding.shape in shapes]
    yield span


def _span(
    ids: tuple[str, str, str],
    name: str,
    kind: int,
    times_ns: tuple[int, int],
    known: Json,
    error: str = "",
) -> Json:
    """A span; `ids` are those of its trace, its own and its parent's."""
    span: Json = {
        "traceId": ids[0],
        "spanId": ids[1],
        "parentSpanId": ids[2],
        "name": safe(name),
        "kind": kind,
        "startTimeUnixNano": str(times_ns[0]),
        "endTimeUnixNano": str(max(times_ns)),
        "attributes": _attributes(known),
    }
    if error:
        span["status"] = {"code": _ERROR, "message": safe(error)}
    return span


def _event(finding: Finding, at_ns: int) -> Json:
    advice = finding.advice[0] if finding.advice else None
    attributes = {
        "askless.pattern": finding.pattern,
        "askless.finding": finding.key,
        "askless.severity": finding.severity,
        "askless.evidence": finding.evidence,
        "askless.title": finding.title,
        "askless.saving": finding_text.saving(finding),
        "askless.advice": advice.title if advice is not None else "",
        "askless.code": advice.code if advice is not None else "",
        "code.file.path": finding.lines[0].file if finding.lines else "",
        "code.line.number": finding.lines[0].line or None if finding.lines else None,
    }
    return {
        "timeUnixNano": str(at_ns),
        "name": f"askless: {finding.pattern}",
        "attributes": _attributes(attributes),
    }


def _attributes(known: Json) -> list[Json]:
    return [
        {"key": key, "value": _value(value)}
        for key, value in known.items()
        if value not in (None, "")
    ]


def _value(value: Any) -> Json:
    if isinstance(value, bool):
        return {"boolValue": value}
    if isinstance(value, int):
        return {"intValue": str(value)}
    return {"doubleValue": value} if isinstance(value, float) else {"stringValue": safe(str(value))}


def _plain(value: Any) -> Any:
    return value[1] if isinstance(value, tuple) else value


def _id(trace: str, number: int) -> str:
    return blake2b(f"{trace}|{number}".encode(), digest_size=8).hexdigest()
