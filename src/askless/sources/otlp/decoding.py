"""Spans of what OpenTelemetry clients send: protobuf messages of the published package, and JSON.
Bytes in, spans out.
"""

from __future__ import annotations

import base64
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any, NamedTuple

import msgspec

from askless.core.errors import MALFORMED, AskLessError, described
from askless.core.formatting import plural
from askless.sources.otlp.size_limits import (
    OBJECTS_MOST,
    SPANS_MOST,
    TooLarge,
    check_json,
    check_protobuf,
)
from askless.sources.otlp.spans import REMOTE_PARENT, Span, is_kept

_ERROR = 2  # code of a status
_EXCEPTION = "exception"


class Malformed(Exception):
    """A payload that is none."""


def check_installed() -> None:
    """Raises AskLessError otlp-extra-missing."""
    from importlib.util import find_spec

    if find_spec("opentelemetry") is None or find_spec("opentelemetry.proto") is None:
        raise AskLessError(
            "otlp-extra-missing",
            "reading traces needs the package opentelemetry-proto",
            "install the extra: pip install 'ask-less[otlp]'",
        )


class Spans(NamedTuple):
    """The spans of a payload, in the order in which they were sent; how many could not be read, and
    why the first could not.
    """

    spans: list[Span]
    unreadable: int = 0
    reason: str = ""


def _readable(spans: Iterable[Any], read: Callable[[Any], Span]) -> Spans:
    """Each span by itself: one that can't be read costs no other."""
    results: list[Span] = []
    unreadable, reason = 0, ""
    for one in spans:
        try:
            results.append(read(one))
        except MALFORMED as error:
            unreadable += 1
            reason = reason or described(error)
    return Spans(results, unreadable, reason)


def spans_of_protobuf(payload: bytes, objects_most: int = OBJECTS_MOST) -> Spans:
    """The spans of a request to export traces. Raises Malformed, TooLarge."""
    from google.protobuf.message import DecodeError
    from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest

    check_protobuf(payload, objects_most)
    try:
        message = ExportTraceServiceRequest.FromString(payload)
    except DecodeError as error:
        raise Malformed(f"it is not an ExportTraceServiceRequest: {error}") from None
    count = sum(
        len(of_scope.spans)
        for of_resource in message.resource_spans
        for of_scope in of_resource.scope_spans
    )
    _check_count(count, objects_most)
    return _readable(_with_origin(message), _span_of_protobuf)


def _check_count(spans: int, objects_most: int) -> None:
    most = objects_most * SPANS_MOST // OBJECTS_MOST
    if spans > most:
        raise TooLarge(f"it holds more than {plural(most, 'span')}")


def _with_origin(message: Any) -> Iterator[tuple[Any, str, str]]:
    for of_resource in message.resource_spans:
        service = ""
        for pair in of_resource.resource.attributes:
            if pair.key == "service.name":
                service = pair.value.string_value
        for of_scope in of_resource.scope_spans:
            scope = of_scope.scope.name
            for span in of_scope.spans:
                yield span, scope, service


def _span_of_protobuf(origin: tuple[Any, str, str]) -> Span:
    span, scope, service = origin
    attributes = {}
    for pair in span.attributes:
        key = pair.key
        if is_kept(key):
            value = pair.value
            attributes[key] = value.string_value or _plain(value)  # texts, most of them
    return Span(
        span.trace_id,
        span.span_id,
        span.parent_span_id,
        span.name,
        span.kind,
        span.start_time_unix_nano,
        span.end_time_unix_nano,
        attributes,
        scope,
        service,
        _error_of(span) if span.status.code == _ERROR else "",
        bool(span.flags & REMOTE_PARENT),
    )


def _plain(value: Any) -> Any:
    kind = value.WhichOneof("value")
    if kind == "array_value":
        return [_plain(one) for one in value.array_value.values]
    return (
        getattr(value, kind)
        if kind in ("string_value", "int_value", "bool_value", "double_value")
        else None
    )


def _error_of(span: Any) -> str:
    for event in span.events:
        if event.name == _EXCEPTION:
            attributes = {pair.key: pair.value.string_value for pair in event.attributes}
            return _exception(attributes) or span.status.message or "failed"
    return span.status.message or "failed"


def _exception(attributes: Mapping[str, Any]) -> str:
    return ": ".join(
        filter(
            None,
            (
                str(attributes.get("exception.type") or ""),
                str(attributes.get("exception.message") or ""),
            ),
        )
    )


_Json = dict[str, Any]


def spans_of_json(payload: bytes | str, objects_most: int = OBJECTS_MOST) -> Spans:
    """The spans of a payload in OTLP's JSON. Raises Malformed, TooLarge."""
    if isinstance(payload, bytes):
        check_json(payload, objects_most)
    try:
        given = msgspec.json.decode(payload)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise Malformed(f"it is not valid JSON: {error}") from None
    if not isinstance(given, dict):
        raise Malformed("it is not an object with resourceSpans")
    try:
        spans = list(_spans(given))
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise Malformed(f"it is not valid OTLP: {described(error)}") from None
    _check_count(len(spans), objects_most)
    return _readable(spans, _span_of_json)


def _spans(given: _Json) -> Iterator[tuple[_Json, str, str]]:
    for of_resource in _list(given, "resourceSpans", "resource_spans"):
        resource = of_resource.get("resource") or {}
        service = str(
            _attributes(resource, wanted=lambda name: name == "service.name").get("service.name")
            or ""
        )
        for of_scope in _list(
            of_resource, "scopeSpans", "scope_spans", "instrumentationLibrarySpans"
        ):
            scope = (of_scope.get("scope") or of_scope.get("instrumentationLibrary") or {}).get(
                "name"
            ) or ""
            for span in of_scope.get("spans") or ():
                yield span, str(scope), service


def _span_of_json(origin: tuple[_Json, str, str]) -> Span:
    span, scope, service = origin
    status = span.get("status") or {}
    failed = status.get("code") in (_ERROR, "STATUS_CODE_ERROR")
    return Span(
        _id(span.get("traceId") or span.get("trace_id")),
        _id(span.get("spanId") or span.get("span_id")),
        _id(span.get("parentSpanId") or span.get("parent_span_id")),
        str(span.get("name") or ""),
        _kind(span.get("kind")),
        _time(span.get("startTimeUnixNano") or span.get("start_time_unix_nano") or 0),
        _time(span.get("endTimeUnixNano") or span.get("end_time_unix_nano") or 0),
        _attributes(span),
        scope,
        service,
        _json_error(span, status) if failed else "",
        bool(int(span.get("flags") or 0) & REMOTE_PARENT),
    )


def _time(value: Any) -> int:
    """Nanoseconds since 1970: a fixed64. Raises ValueError for what no such number holds."""
    result = int(value)
    if not 0 <= result < 1 << 64:
        raise ValueError("a time is not a 64-bit number")
    return result


def _list(given: _Json, *names: str) -> list[_Json]:
    return next((given[name] for name in names if given.get(name)), [])


def _id(text: str | None) -> bytes:
    """An id: hexadecimal by the specification, in base64 by some that follow protobuf's own
    JSON.
    """
    if not text:
        return b""
    try:
        return bytes.fromhex(text)
    except ValueError:
        return base64.b64decode(text, validate=True)


_KINDS = {"INTERNAL": 1, "SERVER": 2, "CLIENT": 3, "PRODUCER": 4, "CONSUMER": 5}


def _kind(value: Any) -> int:
    if isinstance(value, str) and not value.isdigit():
        return _KINDS.get(value.removeprefix("SPAN_KIND_"), 0)
    return int(value or 0)


def _attributes(of: _Json, wanted: Any = is_kept) -> _Json:
    return {
        pair["key"]: _json_value(pair.get("value") or {})
        for pair in of.get("attributes") or ()
        if wanted(pair["key"])
    }


def _json_value(value: _Json) -> Any:
    for name, item in value.items():
        if name in ("intValue", "int_value"):
            return int(item)
        if name in ("arrayValue", "array_value"):
            return [_json_value(one) for one in item.get("values") or ()]
        if name in (
            "stringValue",
            "boolValue",
            "doubleValue",
            "string_value",
            "bool_value",
            "double_value",
        ):
            return item
    return None


def _json_error(span: _Json, status: _Json) -> str:
    for event in span.get("events") or ():
        if event.get("name") == _EXCEPTION:
            return (
                _exception(_attributes(event, wanted=lambda name: name.startswith("exception.")))
                or "failed"
            )
    return str(status.get("message") or "failed")
