"""Spans put together by hand, as OpenTelemetry clients send them."""

from __future__ import annotations

import json
from typing import Any

SERVER, CLIENT, INTERNAL, CONSUMER = 2, 3, 1, 5
BEGAN_NS = 1_795_000_000_000_000_000
LOOK_UP = "SELECT name FROM vessel WHERE id = $1"


def span(
    number: int,
    parent: int = 0,
    *,
    kind: int = CLIENT,
    name: str = "SELECT",
    at_ms: float = 0.0,
    ms: float = 1.0,
    trace: int = 1,
    scope: str = "pg",
    service: str = "office",
    error: str = "",
    flags: int = 0,
    **attributes: Any,
) -> dict[str, Any]:
    """A span in OTLP's JSON with its scope and service; attributes' dots are double underscores."""
    pairs = [
        {"key": key.replace("__", "."), "value": value_of(value)}
        for key, value in attributes.items()
    ]
    start_ns = BEGAN_NS + int(at_ms * 1e6)
    made: dict[str, Any] = {
        "traceId": f"{trace:032x}",
        "spanId": f"{number:016x}",
        "parentSpanId": f"{parent:016x}" if parent else "",
        "name": name,
        "kind": kind,
        "startTimeUnixNano": str(start_ns),
        "endTimeUnixNano": str(start_ns + int(ms * 1e6)),
        "attributes": pairs,
        "flags": flags,
        "_scope": scope,
        "_service": service,
    }
    if error:
        made["status"] = {"code": 2, "message": error}
    return made


def value_of(value: Any) -> dict[str, Any]:
    if isinstance(value, bool):
        return {"boolValue": value}
    if isinstance(value, int):
        return {"intValue": str(value)}
    if isinstance(value, list):
        return {"arrayValue": {"values": [value_of(one) for one in value]}}
    return {"stringValue": str(value)}


def server(
    number: int, *, route: str = "/calls/<int:id>", ms: float = 100.0, **more: Any
) -> dict[str, Any]:
    """A request's span by the new conventions."""
    attributes = {
        "http__request__method": "GET",
        "http__route": route,
        "http__response__status_code": 200,
    }
    return span(number, kind=SERVER, name="GET", ms=ms, scope="http", **{**attributes, **more})


def query(number: int, parent: int, text: str = LOOK_UP, *key: Any, **more: Any) -> dict[str, Any]:
    """A statement's span by the new conventions."""
    given = {f"db__query__parameter__{place}": value for place, value in enumerate(key)}
    return span(
        number,
        parent,
        **{"db__system__name": "postgresql", "db__query__text": text, **given, **more},
    )


def payload(*spans: dict[str, Any]) -> str:
    """An export request, grouped by service and scope as exporters do."""
    services: dict[str, dict[str, list[dict[str, Any]]]] = {}
    for one in spans:
        plain = {key: value for key, value in one.items() if not key.startswith("_")}
        services.setdefault(one["_service"], {}).setdefault(one["_scope"], []).append(plain)
    return json.dumps(
        {
            "resourceSpans": [
                {
                    "resource": {
                        "attributes": [{"key": "service.name", "value": {"stringValue": service}}]
                    },
                    "scopeSpans": [
                        {"scope": {"name": scope}, "spans": made} for scope, made in scopes.items()
                    ],
                }
                for service, scopes in services.items()
            ]
        }
    )
