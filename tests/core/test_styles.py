"""Every pattern in every form in which a statement may come: bound, as literals, whole under a
comment, prepared.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import pytest
from hypothesis import given, strategies as st

from askless.core.analysis.pipeline import findings_of, summarise
from askless.core.records.model import CallSite, Request
from askless.core.records.request_builder import LiveRequestBuilder
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from askless.core.sql.shape import shape_of
from askless.core.sql.slots import Value
from askless.core.sql.value_equality import meaning, single

Query = tuple[str, tuple[Any, ...], tuple[str, ...], list[tuple[Any, ...]]]
FORMS = ["bound", "literals", "commented", "whole", "prepared"]


def written(text: str, values: Sequence[Any]) -> str:
    """A statement with its values written into it."""
    rest = list(values)
    return re.sub(r"\?", lambda _: literal(rest.pop(0)), text)


def literal(value: Any) -> str:
    return "'" + value.replace("'", "''") + "'" if isinstance(value, str) else str(value)


def in_form(
    text: str, values: tuple[Any, ...], form: str, turn: int
) -> tuple[str, tuple[Any, ...]]:
    if form == "bound":
        return text, values
    if form == "prepared":
        numbers = iter(range(1, 99))
        return re.sub(r"\?", lambda _: f"${next(numbers)}::TEXT", text), values
    whole = written(text, values)
    return {
        "literals": whole,
        "commented": f"{whole} /* page:calls trace:{turn:032x} */",
        "whole": f"/* calls */ {whole}",
    }[form], ()


def asked(
    queries: Sequence[Query], form: str = "bound", system: str = "postgresql", **more: Any
) -> list[Request]:
    """A request of these queries, each 1 ms after the one before."""
    results: list[Request] = []
    assembler = LiveRequestBuilder(system, results.append)
    assembler.request_began(RequestBegan(1, "GET /calls", 0))
    for turn, (text, values, columns, rows) in enumerate(queries):
        sent, parameters = in_form(text, values, form, turn)
        seen = QuerySeen(
            sent, 1_000_000 * (turn + 1), 400_000, len(rows), 40 * len(rows), hash(tuple(rows)) & 0xFFFFFFFF,
            CallSite("/app/pages.py", 10 + len(columns), "page"), parameters=parameters, columns=columns,
            sampled=tuple(range(len(columns))), sample=tuple(rows[:32]) or None, **more,
        )  # fmt: skip
        assembler.queries(1, [seen])
    assembler.request_ended(RequestEnded(1, 1_000_000 * (len(queries) + 5)))
    return results


def found(
    queries: Sequence[Query], form: str = "bound", system: str = "postgresql", **more: Any
) -> list[tuple[str, str, str]]:
    findings = findings_of(summarise(asked(queries, form, system, **more)))
    return sorted((f.pattern, f.variant, f.evidence) for f in findings)


CALLS: Query = (
    "SELECT id, vessel_id, agent FROM port_call WHERE status = ? ORDER BY eta LIMIT 6", ("due",),
    ("id", "vessel_id", "agent"), [(700 + i, 9000 + 3 * i, f"agent {i}") for i in range(6)],
)  # fmt: skip


def each(
    text: str, keys: Sequence[Any], columns: tuple[str, ...], rows_of: Any, *more: Any
) -> list[Query]:
    return [(text, (key, *more), columns, rows_of(key)) for key in keys]


IDS, VESSELS, AGENTS = zip(*CALLS[3], strict=True)
JOBS = [(call, [(8000 + 2 * call + n, 50 + (call + n) % 5) for n in range(2)]) for call in IDS]
PROBLEMS: dict[str, tuple[list[Query], list[tuple[str, str, str]]]] = {
    "to-one": (
        [CALLS, *each("SELECT id, name FROM vessel WHERE id = ?", VESSELS, ("id", "name"), lambda k: [(k, "Tern")])],
        [("n-plus-one", "to-one", "traced")],
    ),
    "to-one by text": (
        [CALLS, *each("SELECT name, phone FROM agent WHERE name = ?", AGENTS, ("name", "phone"), lambda k: [(k, "555")])],
        [("n-plus-one", "to-one", "traced")],
    ),
    "to-many": (
        [CALLS, *each("SELECT id, tug_id FROM tug_job WHERE port_call_id = ?", IDS, ("id", "tug_id"), lambda k: dict(JOBS)[k])],
        [("n-plus-one", "to-many", "traced")],
    ),
    "nested": (
        [CALLS, *(
            query
            for call, jobs in JOBS
            for query in [
                ("SELECT id, tug_id FROM tug_job WHERE port_call_id = ?", (call,), ("id", "tug_id"), jobs),
                *each("SELECT name FROM tug WHERE id = ?", [tug for _, tug in jobs], ("name",), lambda k: [(f"Tug {k}",)]),
            ]
        )],
        [("n-plus-one", "nested to-one", "traced"), ("n-plus-one", "to-many", "traced")],
    ),
    "count": (
        [CALLS, *each("SELECT COUNT(*) FROM tug_job WHERE port_call_id = ?", IDS, ("count",), lambda k: [(k % 3,)])],
        [("n-plus-one", "count", "traced")],
    ),
    "exists": (
        [CALLS, *each("SELECT 1 AS a FROM tug_job WHERE port_call_id = ? LIMIT 1", IDS, ("a",), lambda k: [(1,)])],
        [("n-plus-one", "exists", "traced")],
    ),
    "with a clock": (
        [CALLS, *each("SELECT id, name FROM clearance WHERE vessel_id = ? AND (ends IS NULL OR ends > now())", VESSELS, ("id", "name"), lambda k: [(k + 1, "ok")])],
        [("n-plus-one", "to-one", "traced")],
    ),
    "without case": (
        [CALLS, *each("SELECT phone FROM agent WHERE lower(name) = lower(?)", AGENTS, ("phone",), lambda k: [("555",)])],
        [("n-plus-one", "to-one", "traced")],
    ),
    "composite": (
        [CALLS, *[("SELECT rate FROM tariff WHERE (vessel_id, agent) = (?, ?)", (v, a), ("rate",), [(7,)]) for v, a in zip(VESSELS, AGENTS, strict=True)]],
        [("n-plus-one", "to-one", "traced")],
    ),
    "duplicate": (
        [CALLS, *[("SELECT rate FROM tariff WHERE kind = ?", ("tanker",), ("rate",), [(7,)])] * 3],
        [("duplicate", "", "traced")],
    ),
    "siblings": (
        each("SELECT COUNT(*) FROM port_call WHERE status = ?", ["due", "berthed", "left", "gone"], ("count",), lambda k: [(len(k),)]),
        [("sibling-filters", "count", "repeated")],
    ),
    "first of each": (
        [CALLS, *each("SELECT id, at FROM inspection WHERE vessel_id = ? ORDER BY at DESC LIMIT 1", VESSELS, ("id", "at"), lambda k: [(k, 1)])],
        [("n-plus-one", "first-of-each", "traced")],
    ),
    "first of each, from the beginning": (
        [
            CALLS,
            *each(
                "SELECT id, at FROM inspection WHERE vessel_id = ? ORDER BY at DESC LIMIT ? OFFSET ?",
                VESSELS,
                ("id", "at"),
                lambda k: [(k, 1)],
                1,
                0,
            ),
        ],
        [("n-plus-one", "first-of-each", "traced")],
    ),
    "key in a subquery": (
        [CALLS, *each("SELECT id, name FROM pilot WHERE id IN (SELECT pilot_id FROM boarding WHERE port_call_id = ?)", IDS, ("id", "name"), lambda k: [(k, "a"), (k + 1, "b")])],
        [("n-plus-one", "to-many", "traced")],
    ),
    "branches": (
        [CALLS, *[("SELECT name FROM tug WHERE call_id = ? UNION ALL SELECT name FROM pilot WHERE call_id = ?", (k, k), ("name",), [("a",), ("b",)]) for k in IDS]],
        [("n-plus-one", "to-many", "traced")],
    ),
    "ranges": (
        [("SELECT COUNT(*) FROM port_call WHERE eta >= ? AND eta < ?", (f"2026-{m:02}-01", f"2026-{m + 1:02}-01"), ("count",), [(m,)]) for m in range(1, 9)],
        [("sibling-filters", "count of ranges", "repeated")],
    ),
    "writes": (
        each("INSERT INTO manifest_line (port_call_id, goods) VALUES (?, ?)", list(range(1, 8)), (), lambda k: [], "timber"),
        [("write-loop", "insert, each commits alone", "repeated")],
    ),
    "writes of what was read": (
        [CALLS, *[("UPDATE port_call SET agent = ? WHERE status = ? AND id = ?", (f"North {k}", "due", k), (), []) for k in IDS]],
        [("write-loop", "update, each commits alone", "traced")],
    ),
    "deletes of what was read": (
        [CALLS, *each("DELETE FROM port_call WHERE id = ?", IDS, (), lambda k: [])],
        [("write-loop", "delete, each commits alone", "traced")],
    ),
}  # fmt: skip


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("page", PROBLEMS)
def test_a_problem_is_seen_in_every_form(page: str, form: str) -> None:
    queries, expected = PROBLEMS[page]
    assert found(queries, form) == expected


CLEAN: dict[str, list[Query]] = {
    "batches": [CALLS, *[("SELECT id, name FROM vessel WHERE id IN (?, ?, ?)", VESSELS[i : i + 3], ("id", "name"), [(k, "Tern") for k in VESSELS[i : i + 3]]) for i in (0, 3)]],
    "pages by key": each("SELECT id, goods FROM manifest_line WHERE id > ? ORDER BY id LIMIT 3", [0, 3, 6, 9], ("id", "goods"), lambda k: [(k + 1, "a"), (k + 2, "b"), (k + 3, "c")]),
    "rows in chunks": [("INSERT INTO manifest_line (id, goods) VALUES (?, ?), (?, ?)", (n, "a", n + 1, "b"), (), [(1,), (2,)]) for n in range(0, 20, 2)],
    "ranges apart": [("SELECT COUNT(*) FROM port_call WHERE eta >= ? AND eta < ?", (f"2026-{m:02}-01", f"2026-{m:02}-02"), ("count",), [(m,)]) for m in range(1, 9)],
    "another result each time": [("SELECT id, name FROM vessel WHERE owner = ?", ("Tern",), ("id", "name"), [(k, "a")]) for k in (1, 2, 3)],
    "random": each("SELECT id FROM vessel WHERE owner = ? ORDER BY random() LIMIT 1", ["a", "b", "c", "d"], ("id",), lambda k: [(ord(k),)]),
}  # fmt: skip


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("page", CLEAN)
def test_what_looks_alike_stays_clean_in_every_form(page: str, form: str) -> None:
    assert found(CLEAN[page], form) == []


def test_a_list_of_one_is_a_key_and_a_longer_one_a_batch() -> None:
    text = "SELECT id, name FROM vessel WHERE id = ANY(?)"
    ones = [(text, (("list", f"[{key}]"),), ("id", "name"), [(key, "Tern")]) for key in VESSELS]
    assert found([CALLS, *ones]) == [("n-plus-one", "to-one", "traced")]
    arrays = [(text, (f"{{{key}}}",), ("id", "name"), [(key, "Tern")]) for key in VESSELS]
    assert found([CALLS, *arrays]) == [("n-plus-one", "to-one", "traced")]
    many = [
        (text, (("list", f"[{key}, {key + 3}]"),), ("id", "name"), [(key, "Tern")])
        for key in VESSELS
    ]
    assert found([CALLS, *many]) == []


SAME_TIME = ("SELECT id FROM clearance WHERE ends > now()", (), ("id",), [(4,)])


def test_a_clock_makes_a_duplicate_only_where_it_stands_still() -> None:
    assert found([SAME_TIME] * 3) == []
    assert found([SAME_TIME] * 3, in_transaction=True) == [("duplicate", "", "traced")]
    assert found([SAME_TIME] * 3, system="mysql", in_transaction=True) == []
    day = ("SELECT id FROM clearance WHERE ends > current_date", (), ("id",), [(4,)])
    assert found([day] * 3) == [("duplicate", "", "traced")]


ALIKE = [
    (7, "7"), (7, ("Decimal", "7.00")), (7, 7.0), (("UUID", "0b5c8f3e-91f4-4a4e-9c9c-2f1f6f0a9d11"), "0B5C8F3E-91F4-4A4E-9C9C-2F1F6F0A9D11"),
    (("UUID", "0b5c8f3e-91f4-4a4e-9c9c-2f1f6f0a9d11"), "0b5c8f3e91f44a4e9c9c2f1f6f0a9d11"),
    (("UUID", "0b5c8f3e-91f4-4a4e-9c9c-2f1f6f0a9d11"), ("bytes", "0b5c8f3e91f44a4e9c9c2f1f6f0a9d11")),
    (("date", "2026-11-27"), "2026-11-27"), (("datetime", "2026-11-27 10:00:00"), "2026-11-27T10:00:00"),
    (("datetime", "2026-11-27 10:00:00+00:00"), "2026-11-27T10:00:00Z"), (True, 1),
]  # fmt: skip
OTHERS = [
    (7, "07"),
    (7, 8),
    (7, "7.5"),
    ("Tern", "tern"),
    (("Decimal", "7.5"), 7),
    (("bytes", "07"), 7),
    (None, 0),
]


@pytest.mark.parametrize("one, other", ALIKE)
def test_values_are_alike_by_what_they_mean(one: Value, other: Value) -> None:
    assert meaning(one) == meaning(other)


@pytest.mark.parametrize("one, other", OTHERS)
def test_values_that_mean_something_else(one: Value, other: Value) -> None:
    assert meaning(one) != meaning(other)


@given(st.integers(-(2**70), 2**70) | st.text(max_size=40) | st.none() | st.floats(allow_nan=False))
def test_a_meaning_means_itself(value: Value) -> None:
    assert meaning(meaning(value)) == meaning(value)


@given(st.text(max_size=20))
def test_any_text_may_stand_for_a_list(text: str) -> None:
    alone, value = single(text)
    assert not alone or str(value) in text


def test_a_needless_join_to_the_parent_changes_nothing() -> None:
    jobs = "SELECT j.id, j.tug_id FROM tug_job j JOIN port_call p ON p.id = j.port_call_id WHERE p.id = ?"
    queries = [CALLS, *each(jobs, IDS, ("id", "tug_id"), lambda k: dict(JOBS)[k])]
    assert found(queries) == [("n-plus-one", "to-many", "traced")]
    (finding,) = findings_of(summarise(asked(queries)))
    assert "reads tug_job by port_call_id for each row of port_call" in finding.title
    assert (
        finding.advice[0].title == "load tug_job in one batched query"
        and "port_call.id IN" in finding.advice[0].code
    )
    tugs = "SELECT t.name FROM tug t JOIN tug_job j ON j.tug_id = t.id JOIN port_call p ON p.id = j.port_call_id WHERE p.id = ?"
    through = [
        CALLS,
        *each(tugs, IDS, ("name",), lambda k: [(f"Tug {n}",) for _, n in dict(JOBS)[k]]),
    ]
    assert found(through) == [("n-plus-one", "link-table", "traced")]
    unknown = each("SELECT v.name FROM berth v JOIN quay q ON q.id = v.quay_id WHERE q.id = ?", range(6), ("name",), lambda k: [(f"B{k}",)])  # fmt: skip
    assert found(unknown) == [("n-plus-one", "to-one", "repeated")]


def test_rows_of_a_batch_are_there_already_for_lists_of_one() -> None:
    text = "SELECT id, port_call_id, tug_id FROM tug_job WHERE port_call_id IN ({})"
    columns = ("id", "port_call_id", "tug_id")
    rows = {call: [(job, call, tug) for job, tug in jobs] for call, jobs in JOBS}
    batch: Query = (
        text.format(", ".join("?" * len(IDS))),
        tuple(IDS),
        columns,
        [row for call in IDS for row in rows[call]],
    )
    again = each(text.format("?"), IDS, columns, rows.__getitem__)
    assert found([CALLS, batch, *again]) == [("already-loaded", "", "traced")]
    others = {call: [(job + 90_000, call, tug) for job, _, tug in rows[call]] for call in IDS}
    changed = each(text.format("?"), IDS, columns, others.__getitem__)
    assert ("already-loaded", "", "traced") not in found([CALLS, batch, *changed])


def test_look_ups_in_lists_of_one_are_seen_beside_a_batch_of_their_shape() -> None:
    text = "SELECT id, name FROM vessel WHERE id IN ({})"
    others = tuple(range(500, 510))
    batch: Query = (
        text.format(", ".join("?" * 10)),
        others,
        ("id", "name"),
        [(k, "Auk") for k in others],
    )
    loop = each(text.format("?"), VESSELS, ("id", "name"), lambda k: [(k, "Tern")])
    assert found([batch, CALLS, *loop]) == [("n-plus-one", "to-one", "traced")]
    chunks = [
        (text.format(", ".join("?" * 10)), tuple(range(n, n + 10)), ("id", "name"), [(n, "Auk")])
        for n in range(0, 50, 10)
    ]
    assert found([CALLS, *chunks, *loop[:1]]) == []


def test_a_count_of_a_derived_table_is_grouped() -> None:
    text = "SELECT COUNT(1) FROM (SELECT 1 FROM tug_job WHERE port_call_id = ?) AS _w"
    queries = [CALLS, *each(text, IDS, ("count",), lambda k: [(k % 3,)])]
    for form in FORMS:
        (finding,) = findings_of(summarise(asked(queries, form)))
        assert (
            "GROUP BY\n  port_call_id" in finding.advice[0].sql
            and "COUNT(*)" in finding.advice[0].sql
        )


@pytest.mark.parametrize(
    "name",
    ['"pg_catalog"."pg_class"', '"pg_type"', "`information_schema`.`columns`", "[sys].[tables]"],
)
def test_a_catalog_in_quotes_is_noise(name: str) -> None:
    assert shape_of(f"SELECT c.oid FROM {name} AS c WHERE c.relname = 'vessel'", "postgresql").noise
    assert not shape_of('SELECT c."from" FROM "class" AS c', "postgresql").noise
