"""A plan is the same plan whatever a client, a page or a mail has wrapped around it; what can't be
said is refused.
"""

from __future__ import annotations

from collections.abc import Callable

import pytest

from askless.core import plans
from askless.core.plans.errors import UnreadablePlan
from askless.core.plans.tree import FULL_SCAN, INDEX_SEARCH, form

PLAN = """Sort  (cost=239.50..239.76 rows=104 width=20) (actual time=1.2..1.3 rows=60 loops=1)
  Sort Key: c.eta
  ->  Hash Join  (cost=15.00..236.01 rows=104 width=20) (actual time=0.3..1.1 rows=60 loops=1)
        Hash Cond: (c.vessel_id = v.id)
        ->  Seq Scan on port_call c  (cost=0.00..220.00 rows=104 width=16) (actual time=0.1..0.9 rows=60 loops=1)
              Filter: ((status)::text = 'due'::text)
        ->  Hash  (cost=10.00..10.00 rows=400 width=12) (actual time=0.1..0.1 rows=400 loops=1)
              ->  Seq Scan on vessel v  (cost=0.00..10.00 rows=400 width=12) (actual time=0.0..0.1 rows=400 loops=1)
Planning Time: 0.2 ms"""
MYSQL = """-> Sort: c.eta  (cost=303 rows=3000) (actual time=2.2..2.3 rows=60 loops=1)
    -> Filter: (c.`status` = 'due')  (cost=303 rows=3000) (actual time=0.1..2.1 rows=60 loops=1)
        -> Table scan on c  (cost=303 rows=3000) (actual time=0.05..1.8 rows=3000 loops=1)"""
SQLITE = """QUERY PLAN
|--CO-ROUTINE x
|  |--SCAN port_call
|  `--USE TEMP B-TREE FOR GROUP BY
|--SCAN x
`--SEARCH vessel USING INTEGER PRIMARY KEY (rowid=?)"""

Wrap = Callable[[str], str]


def each(change: Callable[[str], str]) -> Wrap:
    return lambda text: "\n".join(map(change, text.split("\n")))


def wide(text: str) -> int:
    return max(map(len, text.split("\n")))


def psql(text: str) -> str:
    return (
        "QUERY PLAN".center(wide(text))
        + "\n"
        + "-" * wide(text)
        + "\n"
        + each(lambda line: " " + line)(text)
        + "\n(9 rows)"
    )


def boxed(text: str) -> str:
    rule, width = "─" * (wide(text) + 2), wide(text)
    rows = each(lambda line: f"│ {line.ljust(width)} │")(text)
    return f"┌{rule}┐\n│{'QUERY PLAN'.center(width + 2)}│\n├{rule}┤\n{rows}\n└{rule}┘\n(9 rows)"


def expanded(text: str) -> str:
    return "\n".join(
        f"-[ RECORD {n} ]----\nQUERY PLAN | {line}" for n, line in enumerate(text.split("\n"), 1)
    )


WRAPPINGS: dict[str, Wrap] = {
    "psql": psql,
    "psql with its prompt": lambda text: (
        "harbour=# EXPLAIN ANALYZE SELECT *\nharbour-# FROM port_call;\n" + psql(text)
    ),
    "unicode borders": boxed,
    "expanded": expanded,
    "bars behind": lambda text: (
        "QUERY PLAN|\n----------+\n" + each(lambda line: line.ljust(wide(text)) + "|")(text)
    ),
    "bars around": lambda text: (
        "| QUERY PLAN |\n|------|\n" + each(lambda line: f"| {line.ljust(wide(text))} |")(text)
    ),
    "another head": lambda text: "Query Plan\n" + text,
    "a column's head": lambda text: "query_plan\n----------\n" + text,
    "a fence": lambda text: "```sql\n" + text + "\n```",
    "a mail": each(lambda line: "> " + line),
    "a mail in a mail": each(lambda line: "> > " + line),
    "a fence in a mail": lambda text: each(lambda line: "> " + line)(
        "```\n" + psql(text) + "\n```"
    ),
    "strings": lambda text: '"QUERY PLAN"\n' + each(lambda line: f'"{line}"')(text),
    "strings of a list": each(lambda line: "'" + line.replace("'", "''") + "',"),
    "broken lines": lambda text: text.replace(" (actual", "\n (actual").replace(
        " width=20", "\nwidth=20"
    ),
    "numbered": lambda text: "\n".join(
        f"{n:3} {line}" for n, line in enumerate(text.split("\n"), 1)
    ),
    "a web page": lambda text: text.replace(">", "&gt;"),
    "dots of a word processor": lambda text: text.replace("..", "…"),
} | {
    f"a chat program's {arrow}": lambda text, arrow=arrow: text.replace("->", arrow)  # type: ignore[misc]
    for arrow in ("→", "➔", "⟶", "➡\ufe0f", "–>", "—>", "- >")
}
ROW = ("1", "SIMPLE", "port_call", "ALL", "NULL", "NULL", "NULL", "NULL", "3000", "Using where")
NAMES = (
    "id",
    "select_type",
    "table",
    "type",
    "possible_keys",
    "key",
    "key_len",
    "ref",
    "rows",
    "Extra",
)
STARS = "*************************** {}. row ***************************"


@pytest.mark.parametrize("name", WRAPPINGS)
def test_a_wrapped_plan_is_the_same_plan(name: str) -> None:
    _, expected = plans.read_saved(PLAN)
    system, nodes = plans.read_saved(WRAPPINGS[name](PLAN))
    assert system == "postgresql" and form(nodes) == form(expected)
    assert [node.actual for node in nodes[0].walk()] == [node.actual for node in expected[0].walk()]


@pytest.mark.parametrize(
    "wrapped",
    [
        "*************************** 1. row ***************************\nEXPLAIN: "
        + MYSQL
        + "\n\n1 row in set (0.00 sec)",
        "EXPLAIN\n" + MYSQL.replace("\n", "\\n") + "\\n",
        "```\n" + MYSQL + "\n```",
        each(lambda line: "> " + line)(MYSQL),
        "mysql> EXPLAIN ANALYZE SELECT 1;\n" + MYSQL,
    ],
)
def test_mysqls_tree_too(wrapped: str) -> None:
    system, nodes = plans.read_saved(wrapped)
    assert system == "mysql" and form(nodes) == form(plans.read_saved(MYSQL)[1])


def expanded_rows(*rows: tuple[str, ...]) -> str:
    return "\n".join(
        "\n".join(
            [
                STARS.format(at),
                *(f"{name:>13}: {cell}" for name, cell in zip(NAMES, row, strict=True)),
            ]
        )
        for at, row in enumerate(rows, 1)
    )


@pytest.mark.parametrize(
    "printed",
    [
        "\t".join(ROW),
        "\t".join(NAMES) + "\n" + "\t".join(ROW),
        "\t".join((*ROW[:9], "100.00", ROW[9])),
        "\t".join((*ROW[:3], "NULL", *ROW[3:])),
        "\t".join((*ROW[:3], "NULL", *ROW[3:9], "100.00", ROW[9])),
        "+---+\n| " + " | ".join(ROW) + " |\n+---+",
        expanded_rows(ROW) + "\n1 row in set (0.000 sec)",
    ],
)
def test_a_table_of_mysqls_client_with_or_without_its_header(printed: str) -> None:
    system, (node,) = plans.read_saved(printed)
    assert (system, node.table, node.kind) == ("mariadb", "port_call", FULL_SCAN)
    assert node.estimate is not None and node.estimate.rows == 3000 and node.filtered


def test_several_rows_one_under_another() -> None:
    other = (
        "1",
        "SIMPLE",
        "vessel",
        "ref|filter",
        "PRIMARY",
        "PRIMARY",
        "4",
        "c.vessel_id",
        "1",
        "",
    )
    _, (join,) = plans.read_saved(expanded_rows(ROW, other))
    assert [(node.table, node.kind) for node in join.children] == [
        ("port_call", FULL_SCAN), ("vessel", INDEX_SEARCH)
    ]  # fmt: skip
    bars = "\n".join("| " + " | ".join(row) + " |" for row in (NAMES, ROW, (*other[:-1], "x")))
    assert form(plans.read_saved(bars)[1]) == form((join,))


@pytest.mark.parametrize("label", ["", "EXPLAIN\n", "EXPLAIN: ", STARS.format(1) + "\nANALYZE: "])
def test_json_as_mysqls_client_prints_it(label: str) -> None:
    text = """{
  "query_block": {
    "table": {"table_name": "port_call", "access_type": "hash_ALL", "rows": 3000, "attached_condition": "c.note = 'a\\"b'"}
  }
}"""
    for printed in (text, text.replace("\\", "\\\\").replace("\n", "\\n")):
        _, (node,) = plans.read_saved(label + printed)
        assert (node.table, node.kind, node.filtered) == ("port_call", FULL_SCAN, "c.note = 'a\"b'")


def test_the_tree_of_sqlites_shell() -> None:
    system, nodes = plans.read_saved("sqlite> EXPLAIN QUERY PLAN SELECT 1;\n" + SQLITE)
    assert system == "sqlite" and [len(node.children) for node in nodes] == [2, 0, 0]
    assert [node.table for node in nodes[0].walk() if node.table] == ["port_call"]
    rows = "2|0|0|SCAN port_call\n7|0|0|SEARCH vessel USING INTEGER PRIMARY KEY (rowid=?)"
    assert [node.table for node in plans.read_saved(rows)[1]] == ["port_call", "vessel"]


@pytest.mark.parametrize(
    "text",
    [
        "Something that stands above\n" + PLAN,
        PLAN.replace("Sort  (cost", "Sort (cost of 3) (cost", 1).replace("(cost of", "(cost=1 of"),
        "|--SCAN x\n|  |  |--SCAN y",
        "|--SCAN x\nand more",
        # without its indentation nothing tells which step is below which
        each(str.strip)(PLAN),
        each(str.strip)(MYSQL),
        each(str.strip)("`--CO-ROUTINE x\n   |--SCAN port_call\n   `--SCAN vessel"),
        PLAN.replace("->  Seq", "*  Seq"),
        MYSQL.replace("-> Table", "• Table"),
        "\t".join((*ROW[:3], "sideways", *ROW[4:])),
        "\t".join(ROW) + "\n" + "\t".join(ROW[:5]),
    ],
)
def test_what_is_not_understood_is_refused(text: str) -> None:
    with pytest.raises(UnreadablePlan):
        plans.read_saved(text)
