"""Captures as spans: into a file or to an endpoint, and back."""

from __future__ import annotations

import json
import socket
from pathlib import Path

import askless
from tests.conftest import findings, refused, run
from tests.traces.test_receiving import receiver


def of(capture: Path) -> list[tuple[object, ...]]:
    read = askless.read(capture, values=True)
    return sorted(
        (
            one.route,
            one.statement,
            one.rows,
            one.file,
            one.line,
            one.error,
            one.parameters,
            round(one.duration_ms, 3),
        )
        for one in read.queries
    )


def test_a_capture_comes_back_as_it_was(pages: dict[str, Path], tmp_path: Path) -> None:
    out = tmp_path / "spans.jsonl"
    assert run("export", pages["grown"], "--otlp", out, "--values").code == 0
    assert out.stat().st_mode & 0o777 == 0o600
    assert run("capture", "otlp", out, "-o", tmp_path / "back").code == 0
    assert [row[:6] for row in of(tmp_path / "back")] == [row[:6] for row in of(pages["grown"])]
    there, here = (
        run("requests", capture, "--json").json["routes"]
        for capture in (pages["grown"], tmp_path / "back")
    )
    keys = ("route", "requests", "queries", "shapes", "repeated", "rows", "warm_up")
    assert sorted([row[key] for key in keys] for row in there) == sorted(
        [row[key] for key in keys] for row in here
    )
    again = tmp_path / "again.jsonl"
    run("export", pages["grown"], "--otlp", again, "--values")
    assert again.read_bytes() == out.read_bytes()


def test_findings_are_events_and_values_stay_out(pages: dict[str, Path], tmp_path: Path) -> None:
    out = tmp_path / "spans.jsonl"
    run("export", pages["grown"], "--otlp", out)
    text = out.read_text()
    assert "H00042" not in text and "db.query.parameter" not in text
    spans = [
        span
        for line in text.splitlines()
        for of_resource in json.loads(line)["resourceSpans"]
        for of_scope in of_resource["scopeSpans"]
        for span in of_scope["spans"]
    ]
    told = {
        pair["value"]["stringValue"]
        for span in spans
        for event in span.get("events", ())
        for pair in event["attributes"]
        if pair["key"] == "askless.finding"
    }
    assert told == {one["key"] for one in findings(pages["grown"])}
    assert all(len(span["traceId"]) == 32 and len(span["spanId"]) == 16 for span in spans)
    assert len({span["spanId"] for span in spans}) == len(spans)


def test_to_an_endpoint(pages: dict[str, Path], tmp_path: Path) -> None:
    with receiver(tmp_path / "calls") as one:
        ran = run("export", pages["tuned"], "--otlp", f"http://127.0.0.1:{one.http}")
        assert ran.code == 0 and "as spans to" in ran.err
        one.stop()
    shapes = [
        sorted((one.route, one.shape, one.line) for one in askless.read(capture).queries)
        for capture in (tmp_path / "calls", pages["tuned"])
    ]
    assert shapes[0] == shapes[1]


def test_targets_that_take_nothing(pages: dict[str, Path], tmp_path: Path) -> None:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    refused(
        run("export", pages["tuned"], "--otlp", f"http://127.0.0.1:{port}"),
        "does not accept spans",
        "endpoint",
    )
    refused(run("export", pages["tuned"], "--otlp", tmp_path / "none" / "x.jsonl"), "can't write")
    (tmp_path / "taken").mkdir()
    refused(run("export", pages["tuned"], "--otlp", tmp_path / "taken"), "can't write")
    assert [path.name for path in tmp_path.iterdir()] == ["taken"]
