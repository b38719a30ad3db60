"""What is written is read back: the recorder's writer and the one for other sources, with any text
and any value.
"""

from __future__ import annotations

import math
import tempfile
from collections.abc import Callable, Iterator
from datetime import datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings, strategies as st

from askless.capture.checking import check
from askless.capture.reading import Feed, Reader, read
from askless.capture.writing import CaptureWriter
from askless.core.errors import AskLessError
from askless.core.records.model import CallSite
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from askless.sources.wire.value_capture import sampled_of
from tests.conftest import recorder_on_path


@pytest.fixture(scope="module")
def probe() -> Iterator[Any]:
    """The recorder's own modules, as a recorded program has them, without starting to record."""
    with recorder_on_path():
        from askless_probe import recorder, writing  # type: ignore[import-not-found]

        yield recorder, writing


def record(
    text: str, parameters: Any, rows: list[tuple[Any, ...]], description: Any = None
) -> list[Any]:
    """A record as a driver hook makes it."""
    return [
        text,
        parameters,
        1000,
        500,
        len(rows),
        (),
        rows[:32] or None,
        1,
        False,
        description,
        None,
        7,
        None,
        0,
    ]


def written(probe: Any, records: list[list[Any]]) -> Any:
    """Write records as one request and read them back."""
    recorder, writing = probe
    with tempfile.TemporaryDirectory() as folder:
        writer = writing.Writer(folder)
        recorder.writer = writer
        request = recorder.Request("http", "GET /calls/{id}", "/calls/1")
        request.records = records
        writer.write(request, ended_ns=request.start_ns + 9000)
        writer.close()
        (found,) = list(read(Path(folder)))
        # What is decoded late is decoded before the folder goes.
        return found, found.parameters, found.samples, found.literals


texts = st.one_of(
    st.text(max_size=60),
    st.lists(
        st.sampled_from(
            [
                "SELECT ",
                "a1 ",
                "= ",
                "'x''y' ",
                "12 ",
                ", ",
                "-1.5e3 ",
                "-- c\n",
                "/* ' */ ",
                '"q" ',
                "IN (1, 2) ",
                "\ud800",
            ]
        )
    ).map("".join),
)
scalars = st.one_of(
    st.none(), st.booleans(), st.integers(), st.floats(), st.text(max_size=30), st.binary(max_size=20),
    st.decimals(allow_nan=False, allow_infinity=False), st.datetimes(),
)  # fmt: skip


def plain(value: Any) -> Any:
    """What a value is after it was written and read."""
    if value is None or isinstance(value, int):
        return value
    if isinstance(value, float):
        return value if math.isfinite(value) else ("float", str(value))
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode()
    if isinstance(value, bytes):
        return ("bytes", value.hex())
    return (type(value).__name__, str(value))


@settings(max_examples=150)
@given(st.lists(st.tuples(texts, st.lists(scalars, max_size=4)), min_size=1, max_size=8))
def test_texts_and_parameters_come_back(probe: Any, queries: list[tuple[str, list[Any]]]) -> None:
    found, parameters, _, _ = written(
        probe, [record(text, tuple(values), []) for text, values in queries]
    )
    assert [found.text(i) for i in range(len(found))] == [
        text.encode("utf-8", "replace").decode() for text, _ in queries
    ]
    for kept, (_, values) in zip(parameters, queries, strict=True):
        assert list(kept) == [plain(value) for value in values]


@settings(max_examples=100)
@given(
    st.integers(1, 5).flatmap(
        lambda width: st.lists(st.tuples(*[scalars] * width), min_size=1, max_size=40)
    )
)
def test_results_are_measured_and_sampled(probe: Any, rows: list[tuple[Any, ...]]) -> None:
    description = [(f"column_{i}",) for i in range(len(rows[0]))]
    found, _, samples, _ = written(probe, [record("SELECT 1", (), rows, description)])
    statement = found.statement(0)
    assert found.rows == [len(rows)] and statement.columns == tuple(name for (name,) in description)
    assert found.bytes[0] >= 0 and len(found.widths[0]) == len(rows[0])
    for position, column in enumerate(statement.sampled):
        kept = [row[position] for row in samples[0]]
        # The first result decides which columns may hold keys; what the sample shows is what the
        # rows held.
        assert kept == [
            plain(row[column])
            if not isinstance(row[column], Decimal | datetime)
            else str(row[column])
            for row in rows[:32]
        ]


def test_named_parameters_keep_their_names(probe: Any) -> None:
    found, parameters, _, _ = written(
        probe,
        [
            record("SELECT :b, :a", {"a": 1, "b": "x"}, []),
            record("SELECT :b, :a", {"a": 2, "b": "y"}, []),
        ],
    )
    assert found.statement(0).names == ("a", "b") and parameters == [(1, "x"), (2, "y")]
    assert found.statements[0] == found.statements[1]


def test_texts_that_differ_by_literals_share_a_statement(probe: Any) -> None:
    found, _, _, literals = written(
        probe,
        [
            record(f"SELECT name FROM vessel WHERE id = {n} AND flag = 'N{n}'", (), [])
            for n in range(5)
        ],
    )
    assert len(set(found.statements)) == 1
    assert literals == [None, ("1", "'N1'"), ("2", "'N2'"), ("3", "'N3'"), ("4", "'N4'")]


def test_long_values_are_cut_and_say_so(probe: Any) -> None:
    found, parameters, _, _ = written(
        probe, [record("INSERT INTO t VALUES (?, ?)", ("x" * 100_000, b"y" * 100_000), [])]
    )
    assert parameters[0][0][0] == "cut str" and len(parameters[0][0][1]) == 2000
    assert parameters[0][1] == ("cut bytes", "100000") and len(found) == 1


def test_a_table_that_changes_under_its_statement(probe: Any) -> None:
    first = record("SELECT * FROM t", (), [(1, 2, 3)], [("a",), ("b",), ("c",)])
    second = record("SELECT * FROM t", (), [(1,)], [("a",)])
    found, _, samples, _ = written(probe, [first, second])
    assert found.rows == [1, 1] and samples[0] == ((1, 2, 3),) and samples[1] is None


@settings(max_examples=100)
@given(st.lists(st.tuples(texts, st.integers(0, 10**9)), min_size=1, max_size=10))
def test_the_writer_for_other_sources_writes_what_is_read(queries: list[tuple[str, int]]) -> None:
    clean = [(text.encode("utf-8", "replace").decode(), number) for text, number in queries]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "other.jsonl"
        writer = CaptureWriter(path, "test", "postgresql", "harbour")
        place = CallSite("/app/berths.py", 12, "board")
        writer.request_began(RequestBegan(1, "GET /berths", 10))
        writer.queries(
            1,
            [
                QuerySeen(
                    text, 10 + number, number, rows=number % 7, place=place, parameters=(number,)
                )
                for text, number in clean
            ],
        )
        writer.request_ended(RequestEnded(1, 10**10, status=200))
        writer.close()
        assert path.stat().st_mode & 0o777 == 0o600
        reader = Reader(path)
        (found,) = list(reader)
        assert [found.text(i) for i in range(len(found))] == [text for text, _ in clean]
        assert (
            found.durations_ns == [number for _, number in clean]
            and [p[0] for p in found.parameters] == found.durations_ns
        )
        assert (
            reader.report.closed
            and reader.report.queries == len(clean)
            and str(found.place(0)) == "/app/berths.py:12"
        )
        with pytest.raises(AskLessError, match="exists already"):
            CaptureWriter(path, "test", "postgresql")


LOAD = ("sqlalchemy", "query", "Vessel", "", "Vessel", True)
names = st.text(st.characters(codec="ascii", categories=["L", "N"]), min_size=1, max_size=8)


@settings(max_examples=60)
@given(st.lists(st.lists(st.lists(names, max_size=5), max_size=6), min_size=1, max_size=5))
def test_what_was_read_comes_back_with_its_query(
    probe: Any, results: list[list[list[str]]]
) -> None:
    """Each result is a list of objects, each object the attributes that were read of it, in turn."""
    recorder, _ = probe
    from askless_probe import object_use  # type: ignore[import-not-found]

    class Vessel:
        pass

    recorder.tracking = True
    try:
        records = []
        for objects in results:
            following = object_use.ObjectUse()
            entity = following.entity(Vessel, lambda cls, name: f"vessel.{name}")
            for attributes in objects:
                entity.objects += 1
                mark = [entity, 0]
                for name in attributes:
                    object_use.read(mark, Vessel, name)
            made = record("SELECT 1", (), [])
            made[10] = (LOAD, following)
            records.append(made)
        found, *_ = written(probe, records)
    finally:
        recorder.tracking = False
        object_use._bits.clear()
    for i, objects in enumerate(results):
        (used,) = found.uses[i]
        assert (used.model, used.objects) == ("Vessel", len(objects))
        assert used.touched == sum(bool(attributes) for attributes in objects)
        counts: dict[str, int] = {}
        for attributes in objects:
            for name in set(attributes):
                counts[f"vessel.{name}"] = counts.get(f"vessel.{name}", 0) + 1
        assert used.columns == counts
        assert found.load(i) is not None and found.load(i).target == "Vessel"


@settings(max_examples=200)
@given(st.lists(st.one_of(st.binary(max_size=40), st.sampled_from([b'{"event":"end","request":9,"end_ns":1}', b'{"event":"use","request":1,"used":[[7,"V",1,1,{},{}]]}', b'{"event":"use","request":1,"used":[[0,"V",1]]}', b'{"event":"load","id":1,"orm":"x","kind":"lazy"}', b'{"event":"queries","request":1,"count":2,"statement":3,"duration_ns":[1]}', b"[]", b"null"])), max_size=12))  # fmt: skip
def test_lines_that_make_no_sense_are_reported_and_no_more(lines: list[bytes]) -> None:
    feed = Feed(Path("made.jsonl"))
    feed.take(b'{"event":"capture","format":"askless capture","version":1}')
    feed.take(b'{"event":"request","id":1,"kind":"http","route":"GET /","start_ns":0}')
    for line in lines:
        assert feed.take(line) is None
    ended = feed.take(b'{"event":"end","request":1,"end_ns":5}')
    assert ended is not None and len(ended) == 0 and ended.end_ns == 5


@pytest.mark.parametrize(
    "pattern, route",
    [
        ("calls/<int:number>/", "/calls/{number}/"),
        ("", "/"),
        ("<slug>", "/{slug}"),
        (r"^calls/(?P<number>\d+)/$", "/calls/{number}/"),
        (r"^calls/(?P<when>\d{4}(-\d\d)?)/(?P<who>[\w-]+)\Z", "/calls/{when}/{who}"),
        ("api/^old/(?P<number>[0-9]+)$", "/api/old/{number}"),
        (r"office\.html", "/office.html"),
    ],
)
def test_djangos_patterns_as_routes(pattern: str, route: str, probe: Any) -> None:
    from askless_probe.web.django_app import pattern_of  # type: ignore[import-not-found]

    assert pattern_of(pattern) == (route if "\\." not in pattern else "/" + pattern)


@given(
    st.recursive(
        st.none() | st.integers() | st.text() | st.binary(),
        lambda inner: st.lists(inner, max_size=3),
        max_leaves=6,
    )
)
def test_no_model_makes_a_capture_unreadable(probe: Any, odd: Any) -> None:
    """What an ORM's fields give for a table, a column or a relation's ends is anything."""
    from askless_probe import values  # type: ignore[import-not-found]

    recorder, writing = probe
    described = {
        "table": odd, "keys": [odd, "id"], "attributes": {"id": odd, "name": "name"},
        "relations": {"notes": ["Note", odd, [odd, "id"], [odd], odd], "owner": [odd, False, ["owner_id"], ["id"], ""]},
    }  # fmt: skip
    with tempfile.TemporaryDirectory() as folder:
        writer = recorder.writer = writing.Writer(folder)
        event = {
            "event": "model",
            "orm": "django",
            "name": "Vessel",
            **values.plain_model(described),
        }
        writer._do(writer._line_of, event)
        writer.close()
        (report,) = check(Path(folder))
    assert report.bad_lines == [] and "id" in event["keys"]


def test_of_many_columns_those_that_are_called_keys_are_sampled(
    record: Callable[..., Path],
) -> None:
    names = [f"mark_{turn}" for turn in range(14)] + ["vessel_id", "id_1", "uuid"]
    folder = record(
        f"""
        import sqlite3
        db = sqlite3.connect(":memory:")
        db.execute("SELECT " + ", ".join("%d AS %s" % pair for pair in enumerate({names!r}))).fetchall()
        """
    )
    (request,) = read(folder)
    statement = request.statement(0)
    sampled = [statement.columns[i] for i in statement.sampled]
    assert sampled == [*names[:9], "vessel_id", "id_1", "uuid"]
    assert sampled_of(names, range(len(names))) == statement.sampled, "the wire keeps the same"
