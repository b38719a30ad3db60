"""Lineage: which earlier result supplied the keys, and when that is a mere coincidence of small
numbers.
"""

from __future__ import annotations

from typing import Any

from hypothesis import given, strategies as st

from askless.core.inference.lineage import Source, find_source, is_convincing
from askless.core.records.model import CaptureTables, Request, Statement
from askless.core.sql.shape import shape_of


class Part:
    """Cold columns given in full."""

    def __init__(self, **columns: list[Any]) -> None:
        self.columns = columns

    def column(self, name: str) -> list[Any]:
        return self.columns[name]


def request_of(
    *queries: tuple[str, tuple[str, ...], tuple[Any, ...], list[tuple[Any, ...]]],
) -> Request:
    """A request of (sql, result columns, parameters, rows); all columns sampled, the first 32 rows."""
    tables = CaptureTables({}, {}, {})
    numbers: dict[str, int] = {}
    request = Request(1, "GET /calls", tables)
    statements, rows = [], []
    for sql, columns, _, result in queries:
        number = numbers.setdefault(sql, len(numbers) + 1)
        if number not in tables.statements:
            tables.statements[number] = Statement(
                number, (sql,), shape_of(sql), "sqlite", (), columns, tuple(range(len(columns)))
            )
        statements.append(number)
        rows.append(len(result))
    request.statements, request.rows = statements, rows
    request.parts = [
        Part(
            sample=[tuple(result[:32]) or None for *_, result in queries],
            parameters=[p for _, _, p, _ in queries],
        )
    ]
    return request


CALLS = "SELECT id, vessel_id FROM port_call"
VESSEL = "SELECT id, name FROM vessel WHERE id = ?"


def looked_up(parents: list[tuple[int, int]], keys: list[int]) -> Source | None:
    queries = [(CALLS, ("id", "vessel_id"), (), [tuple(row) for row in parents])]
    queries += [(VESSEL, ("id", "name"), (key,), [(key, "Tern")]) for key in keys]
    return find_source(request_of(*queries), list(range(1, len(keys) + 1)), keys, "vessel", "id")


def test_the_column_that_supplied_the_keys_is_found() -> None:
    source = looked_up([(500 + i, 900 + i * 3) for i in range(6)], [900 + i * 3 for i in range(6)])
    assert source is not None and is_convincing(source)
    assert (
        source.table,
        source.column,
        source.matched,
        source.keys,
        source.in_order,
        source.named,
    ) == (
        "port_call",
        "vessel_id",
        6,
        6,
        True,
        True,
    )


def test_a_sample_stands_for_a_longer_result() -> None:
    parents = [(500 + i, 9000 + i) for i in range(200)]
    source = looked_up(parents, [9000 + i for i in range(200)])
    assert (
        source is not None and source.matched == 32 and source.rows == 200 and is_convincing(source)
    )


def test_other_values_than_the_result_held_did_not_flow() -> None:
    assert looked_up([(i, 100 + i) for i in range(8)], [4000 + i for i in range(8)]) is None
    half = looked_up([(i, 100 + i) for i in range(8)], [100, 101, 102, 4000, 4001, 4002])
    assert half is None


def test_a_result_that_came_later_supplied_nothing() -> None:
    queries = [(VESSEL, ("id", "name"), (key,), [(key, "Tern")]) for key in (901, 902, 903)]
    queries.append((CALLS, ("id", "vessel_id"), (), [(1, 901), (2, 902), (3, 903)]))
    queries.append((VESSEL, ("id", "name"), (904,), [(904, "Tern")]))
    assert find_source(request_of(*queries), [0, 1, 2], [901, 902, 903], "vessel", "id") is None


def test_small_numbers_in_a_column_of_another_name_are_a_coincidence() -> None:
    queries = [("SELECT rank, rate FROM tariff", ("rank", "rate"), (), [(3, 12), (1, 30), (2, 7)])]
    queries += [(VESSEL, ("id", "name"), (key,), [(key, "Tern")]) for key in (1, 2, 3)]
    source = find_source(request_of(*queries), [1, 2, 3], [1, 2, 3], "vessel", "id")
    assert source is None or not is_convincing(source)


def test_the_named_column_wins_over_an_equal_one() -> None:
    queries = [
        (
            "SELECT id, vessel_id, agent FROM port_call",
            ("id", "vessel_id", "agent"),
            (),
            [(k, k, k) for k in (11, 12, 13)],
        )
    ]
    queries += [(VESSEL, ("id", "name"), (key,), [(key, "Tern")]) for key in (11, 12, 13)]
    source = find_source(request_of(*queries), [1, 2, 3], [11, 12, 13], "vessel", "id")
    assert source is not None and source.column == "vessel_id"


def test_keys_from_many_results_of_one_statement() -> None:
    jobs = "SELECT id, tug_id FROM tug_job WHERE port_call_id = ?"
    tug = "SELECT name FROM tug WHERE id = ?"
    queries: list[Any] = []
    indices, keys = [], []
    for call in range(5):
        queries.append(
            (jobs, ("id", "tug_id"), (call,), [(call * 10, 70 + call), (call * 10 + 1, 80 + call)])
        )
        for key in (70 + call, 80 + call):
            indices.append(len(queries))
            keys.append(key)
            queries.append((tug, ("name",), (key,), [("Tug",)]))
    source = find_source(request_of(*queries), indices, keys, "tug", "id")
    assert (
        source is not None
        and source.executions == 5
        and source.matched == 10
        and is_convincing(source)
    )


@given(
    st.lists(st.integers(min_value=-50, max_value=50), min_size=2, max_size=20),
    st.lists(st.integers(min_value=-50, max_value=50), min_size=1, max_size=40),
)
def test_a_source_never_claims_more_than_it_saw(keys: list[int], column: list[int]) -> None:
    source = looked_up([(1000 + i, value) for i, value in enumerate(column)], keys)
    if source is not None:
        assert source.keys == len(set(keys)) and source.matched == len(set(keys) & set(column[:32]))
        assert source.matched >= 2


def test_the_column_that_is_called_after_the_table_wins_over_equal_small_numbers() -> None:
    """Three tables with ids from 1: a range's lookups come from the ranges, though the offers were
    read at once.
    """
    offers = ("SELECT id, name FROM offer", ("id", "name"), (), [(k, "a") for k in range(1, 7)])
    ranges = [
        ("SELECT id, open FROM offer_range WHERE id = ?", ("id", "open"), (k,), [(k, True)])
        for k in range(1, 7)
    ]
    lookups = [
        ("SELECT name FROM product WHERE range_id = ?", ("name",), (k,), [("Rope",)])
        for k in range(1, 7)
    ]
    queries = [offers, *[query for pair in zip(ranges, lookups, strict=True) for query in pair]]
    source = find_source(
        request_of(*queries), list(range(2, 13, 2)), list(range(1, 7)), "product", "range_id"
    )
    assert source is not None and (source.table, source.close) == ("offer_range", True)
