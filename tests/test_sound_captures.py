"""A report never breaks on what `capture check` calls sound; on what it calls damaged it breaks
with a message.
"""

from __future__ import annotations

import contextlib
import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, example, given, settings, strategies as st

from askless.capture import events
from askless.capture.checking import check
from askless.capture.reading import Feed, read
from askless.core.errors import AskLessError
from askless.core.records.model import Load, Model, Relation
from askless.core.records.schema import Schema, Table, TableColumn
from askless.reports import compare, findings, indexes, requests, statement_selection, timeline
from tests.conftest import run

SCHEMA = Schema(
    "sqlite",
    (
        Table(
            "vessel", (TableColumn("id", "INTEGER"), TableColumn("name", "TEXT")), ("id",), rows=9
        ),
    ),
)


def office() -> list[dict[str, Any]]:
    """The lines of a small capture that has one of everything: an n-plus-one, a duplicate, a write
    loop, an error.
    """
    lines: list[dict[str, Any]] = [
        {"event": "capture", "format": "askless capture", "version": 1, "pid": 7, "started_unix_s": 5.5},
        {"event": "statement", "id": 1, "text": ["SELECT id, vessel_id FROM port_call WHERE status = ", "'due'", ""], "system": "sqlite"},
        {"event": "statement", "id": 2, "text": ["SELECT id, name FROM vessel WHERE id = ?"], "system": "sqlite"},
        {"event": "statement", "id": 3, "text": ["INSERT INTO log (vessel_id, note) VALUES (?, ?)"], "system": "sqlite"},
        {"event": "statement", "id": 4, "text": ["SELECT count(*) FROM tug WHERE state = ", "1", ""], "system": "sqlite"},
        {"event": "columns", "statement": 1, "names": ["id", "vessel_id"], "sampled": [0, 1]},
        {"event": "columns", "statement": 2, "names": ["id", "name"], "sampled": [0]},
        {"event": "place", "id": 1, "file": "/app/office.py", "line": 3, "function": "main"},
        {"event": "place", "id": 2, "file": "/app/office.py", "line": 9, "function": "due", "caller": 1},
        {"event": "model", "orm": "django", "name": "Vessel", "table": "vessel", "keys": ["id"],
         "attributes": {"id": "id"}, "relations": {"calls": ["PortCall", True, ["id"], ["vessel_id"], ""]}},
        {"event": "load", "id": 1, "orm": "django", "kind": "lazy", "model": "PortCall", "relation": "vessel", "target": "Vessel"},
    ]  # fmt: skip
    for request in (1, 2):
        start = request * 10_000_000
        lines += [
            {"event": "request", "id": request, "kind": "http", "route": "GET /calls", "start_ns": start},
            {"event": "queries", "request": request, "count": 6, "statement": [1, 2, 2, 2, 2, 2], "duration_ns": [90_000] * 6,
             "rows": [5, 1, 1, 1, 1, 1], "bytes": [900, 40, 40, 40, 40, 40], "place": [1, 2, 2, 2, 2, 2], "load": [0, 1, 1, 1, 1, 1],
             "widths": {"0": [400, 500]}, "start_ns": [start + i * 100_000 for i in range(6)], "digest": [9, 1, 2, 3, 4, 5],
             "connection": 1, "in_transaction": 0, "thread": 1, "parameters": [[], [11], [12], [13], [14], [15]],
             "sample": [[[1, 11], [2, 12], [3, 13], [4, 14], [5, 15]], [[11]], [[12]], [[13]], [[14]], [[15]]]},
            {"event": "use", "request": request, "used": [[0, "PortCall", 5, 5, {"port_call.id": 5}, {"vessel": 5}]]},
            {"event": "queries", "request": request, "count": 9, "statement": [3, 3, 3, 3, 3, 4, 4, 4, 4], "duration_ns": [50_000] * 9,
             "rows": [1] * 9, "bytes": 4, "start_ns": [start + 2_000_000 + i * 100_000 for i in range(9)], "digest": 3,
             "connection": 1, "in_transaction": 1, "thread": 1, "batch": {"1": 2}, "error": {"4": "no such table: log"},
             "parameters": [[n, "x"] for n in range(5)] + [[], [], [], []],
             "literals": [None, None, None, None, None, None, ["2"], ["3"], ["3"]]},
            {"event": "end", "request": request, "end_ns": start + 5_000_000, "status": 200},
        ]  # fmt: skip
    return [
        *lines,
        {"event": "note", "text": "a note"},
        {"event": "close", "requests": 2, "queries": 30},
    ]


VALUES = st.one_of(
    st.none(), st.booleans(), st.integers(-3, 5), st.integers(), st.floats(), st.text(max_size=5),
    st.just([]), st.just({}), st.lists(st.integers(-2, 9), max_size=9), st.lists(st.none(), max_size=9),
    st.just([["x"]] * 6), st.just({"-1": [1]}), st.just({"99": "x"}), st.just("SELECT"), st.just(["SELECT ", "1"]),
)  # fmt: skip


def paths(value: Any, so_far: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """The way to every value inside a line."""
    items = (
        value.items()
        if isinstance(value, dict)
        else enumerate(value)
        if isinstance(value, list)
        else ()
    )
    found = [so_far] if so_far else []
    for key, inner in items:
        found += paths(inner, (*so_far, key))
    return found


@st.composite
def altered(draw: st.DrawFn) -> list[dict[str, Any]]:
    """The office's capture with some values changed, lines omitted, repeated or put elsewhere."""
    lines = office()
    for _ in range(draw(st.integers(1, 3))):
        place = draw(st.integers(1, len(lines) - 1))
        how = draw(st.sampled_from(["value", "value", "value", "drop", "repeat", "move"]))
        if how == "drop":
            del lines[place]
        elif how == "repeat":
            lines.insert(place, lines[place])
        elif how == "move":
            lines.insert(draw(st.integers(1, len(lines) - 1)), lines.pop(place))
        else:
            line = json.loads(json.dumps(lines[place]))
            way = draw(st.sampled_from(paths(line)))
            inside = line
            for key in way[:-1]:
                inside = inside[key]
            inside[way[-1]] = draw(VALUES)
            lines[place] = line
    return lines


def reports_on(file: Path, sound: bool = True) -> None:
    """Every report that a capture alone is enough for. A capture may hold too little: that is not a
    fault of the report.
    """
    requests.by_route(file)
    requests.each(file, values=True)
    found = findings.findings(file, schema=SCHEMA, values=True)
    for finding in found.findings:
        findings.only(found, finding.key)
    compare.compare(file, file)
    for make in (
        lambda: timeline.timeline(file, values=True),
        lambda: timeline.timeline(file, unfolded=True),
        lambda: statement_selection.of_request(
            file, next(request.name for request in read(file)), None
        ),
        lambda: indexes.indexes(file, None, SCHEMA, values=True),
    ):
        try:
            make()
        except (AskLessError, StopIteration) as error:
            slug = getattr(error, "slug", "no-request")
            allowed = ["no-request", "nothing-to-explain", "other-schema"]
            assert slug in (allowed if sound else [*allowed, "capture-damaged"]), slug


def changed(line: int, key: str, value: Any) -> list[dict[str, Any]]:
    lines = office()
    lines[line] = {**lines[line], key: value}
    return lines


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(lines=altered())
@example(lines=changed(12, "statement", [1, 2, 2, 2, 2, 77]))  # a statement that was never defined
@example(lines=changed(5, "sampled", [-1]))
@example(lines=changed(5, "sampled", [9]))
@example(lines=changed(14, "literals", [None] * 8 + [["1", "2"]]))
@example(lines=changed(14, "literals", [["SELECT ", "1"]] + [None] * 8))
@example(lines=changed(12, "parameters", [[]]))
@example(
    lines=changed(12, "parameters", [[[]]] + [[]] * 5)
)  # neither a value nor a type and its text
@example(lines=changed(12, "start_ns", "soon"))
@example(lines=changed(11, "start_ns", -(2**63)))
@example(lines=changed(12, "duration_ns", [2**63 - 1] * 6))
@example(lines=changed(12, "widths", {"6": [1]}))
@example(lines=changed(8, "caller", 8))
@example(lines=changed(1, "text", ["SELECT ", "1"]))
def test_what_is_sound_can_be_reported_on(lines: list[dict[str, Any]], tmp_path: Path) -> None:
    file = tmp_path / "calls.jsonl"
    file.write_text("".join(json.dumps(line) + "\n" for line in lines))
    (report,) = check(file)
    if not report.bad_lines:
        reports_on(file)
    else:
        with contextlib.suppress(AskLessError):
            reports_on(file, sound=False)


def test_a_request_without_an_end_and_without_its_times(tmp_path: Path) -> None:
    file = tmp_path / "calls.jsonl"
    lines = [line for line in changed(12, "start_ns", None) if line["event"] != "end"]
    file.write_text("".join(json.dumps(line) + "\n" for line in lines))
    ran = run("capture", "check", file)
    assert ran.code == 1 and "line 13 can't be read: the column start_ns" in ran.out
    assert run("requests", file).err.startswith("askless: request"), "a message, no traceback"


def test_the_office_itself_is_sound_and_has_findings(tmp_path: Path) -> None:
    file = tmp_path / "calls.jsonl"
    file.write_text("".join(json.dumps(line) + "\n" for line in office()))
    (report,) = check(file)
    assert (report.bad_lines, report.requests, report.queries, report.closed) == ([], 2, 30, True)
    patterns = {finding.pattern for finding in findings.findings(file).findings}
    assert {"n-plus-one", "sibling-filters"} <= patterns, patterns
    assert run("capture", "check", file).code == 0


def test_a_field_nested_without_end_is_a_bad_line(tmp_path: Path) -> None:
    file = tmp_path / "calls.jsonl"
    deep = "[" * 200_000 + "]" * 200_000
    nested = json.dumps(office()[12]).replace('"parameters": [[]', f'"parameters": [{deep}')
    lines = [json.dumps(line) for line in office()[:12]] + [
        nested,
        '{"event":"note","text":' + deep + "}",
    ]
    file.write_text("\n".join(lines) + "\n")
    ran = run("capture", "check", file)
    assert (
        ran.code == 1 and "line 13 can't be read" in ran.out and "line 14 can't be read" in ran.out
    )
    assert run("requests", file).code == 0, "reports use what could be read"


def test_a_line_without_end_is_not_read_whole(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("askless.capture.lines.LINE_MOST_BYTES", 5_000)
    monkeypatch.setattr("askless.capture.reading.LINE_MOST_BYTES", 5_000)
    file = tmp_path / "calls.jsonl"
    lines = [json.dumps(line) for line in office()]
    lines.insert(3, '{"event":"note","text":"' + "x" * 50_000 + '"}')
    file.write_text("\n".join(lines) + "\n")
    (report,) = check(file)
    assert [line for line, _ in report.bad_lines] == [4] and "MiB" in report.bad_lines[0][1]
    assert (report.requests, report.lines) == (2, len(lines))


@pytest.mark.parametrize(
    "text, read_as",
    [
        (r"a\ud800b", "a\ufffdb"),
        (r"\udc00", "\ufffd"),
        (r"\ud83d\ude00", "\U0001f600"),
        (r"\ud800\ud83d\ude00", "\ufffd\U0001f600"),
        (r"\\ud800\ud800", "\\ud800\ufffd"),
    ],
)
def test_half_a_pair_of_surrogates_does_not_take_its_line_along(text: str, read_as: str) -> None:
    feed = Feed()
    feed.take(json.dumps(office()[0]).encode())
    feed.take(b'{"event":"note","text":"' + text.encode() + b'"}\n')
    assert feed.report.notes == [read_as] and feed.report.bad_lines == []


def test_lines_have_the_fields_of_their_records_in_the_same_order() -> None:
    """They are written and read by position."""
    load, model, relation = (
        one.__struct_fields__ for one in (events.LoadEvent, events.ModelEvent, events.Relation)
    )
    assert load == ("id", *Load.__struct_fields__)
    assert model == Model.__struct_fields__
    assert ("name", *relation) == Relation.__struct_fields__
