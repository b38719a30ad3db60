"""Reads the plans of MariaDB and MySQL: their JSON (EXPLAIN and ANALYZE FORMAT=JSON), and the table
as clients print it.

Both nest operations by key: what holds one is a step, what is not known is gone through, so that no
table is lost. Rows and times that ANALYZE adds are per loop for rows, and over all loops for times.
https://mariadb.com/kb/en/analyze-format-json/
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from typing import Any

from askless.core.plans import tree
from askless.core.plans.errors import UnreadablePlan
from askless.core.plans.tree import Actual, Estimate, Node

Raw = Mapping[str, Any]

# A row filter ("ref|filter") and a hash join's buffer ("hash_ALL") change nothing of how a table is
# read.
_ACCESS = {"ALL": tree.FULL_SCAN, "index": tree.INDEX_SCAN}
_BY_ONE_KEY = ("const", "eq_ref", "system")
# Operation -> what it is. What is omitted (read_sorted_file, query_block, …) only leads on.
_STEPS = {
    "filesort": tree.SORT,
    "temporary_table": tree.MATERIALIZE,
    "materialized": tree.MATERIALIZE,
    "materialized_from_subquery": tree.MATERIALIZE,
    "materialization": tree.MATERIALIZE,
    "grouping_operation": tree.GROUP,
    "duplicates_removal": tree.DISTINCT,
    "window_functions_computation": tree.WINDOW,
    "windowing": tree.WINDOW,
    "expression_cache": tree.MEMOIZE,
    "union_result": tree.COMPOUND,
    "recursive_union": tree.COMPOUND,
    "buffer_result": tree.MATERIALIZE,
}
_SUBQUERIES = (
    "subqueries",
    "attached_subqueries",
    "select_list_subqueries",
    "having_subqueries",
    "order_by_subqueries",
)


def is_json(text: str) -> bool:
    """Whether a text looks like the JSON form."""
    return text.lstrip().startswith("{") and '"query_block"' in text


def read_json(text: str) -> tuple[Node, ...]:
    """A plan in JSON. Raises UnreadablePlan."""
    try:
        result = json.loads(text)
    except ValueError as error:
        raise UnreadablePlan(
            getattr(error, "lineno", 1), f"it is not valid JSON: {error}"
        ) from None
    block = result.get("query_block") if isinstance(result, dict) else None
    if not isinstance(block, dict):
        raise UnreadablePlan(1, "the JSON contains no query_block")
    nodes = _below(block)
    if not nodes and block.get("message"):
        return (Node(tree.CONSTANT, str(block["message"])),)
    if not nodes:
        raise UnreadablePlan(1, "the query_block contains no step")
    return tuple(nodes)


def _below(raw: Raw) -> list[Node]:
    """The steps that an operation holds, in order."""
    results: list[Node] = []
    for key, value in raw.items():
        if key == "table" and isinstance(value, dict):
            results.append(_table(value))
        elif isinstance(value, dict):
            results += _one_below(key, value)
        elif isinstance(value, list):
            results += _several_below(key, [entry for entry in value if isinstance(entry, dict)])
    return results


def _one_below(key: str, value: Raw) -> list[Node]:
    if key == "ordering_operation":
        return [_step("filesort", value)] if value.get("using_filesort") else _below(value)
    if key in _STEPS:
        return [_step(key, value)]
    return [] if key in ("cost_info", "r_engine_stats", "query_optimization") else _below(value)


def _several_below(key: str, entries: list[Raw]) -> list[Node]:
    if key in _SUBQUERIES:
        return [_subquery(entry) for entry in entries]
    nodes = [node for entry in entries for node in _below(entry)]
    return [_joined(nodes)] if key == "nested_loop" else nodes


def _total_ms(nodes: list[Node]) -> float | None:
    measured = any(
        below.actual is not None and below.actual.total_ms is not None
        for node in nodes
        for below in node.walk()
    )
    return sum(node.total_ms for node in nodes) if measured else None


def _joined(nodes: list[Node]) -> Node:
    """Tables that are joined in turn; one alone stands for itself."""
    if len(nodes) == 1:
        return nodes[0]
    last = nodes[-1].actual if nodes else None
    actual = Actual(last.rows * last.loops, 1, _total_ms(nodes)) if last is not None else None
    return Node(tree.NESTED_LOOP, "nested_loop", children=tuple(nodes), actual=actual)


def _step(key: str, raw: Raw) -> Node:
    children = _below(raw)
    own = _number(raw, "r_total_time_ms")
    below = _total_ms(children)
    actual = None
    if own is not None or "r_output_rows" in raw:
        rows = _number(raw, "r_output_rows")
        actual = Actual(
            rows if rows is not None else 0.0,
            int(_number(raw, "r_loops") or 1),
            (own or 0.0) + (below or 0.0),
        )
    detail = key + (f" by {raw['sort_key']}" if raw.get("sort_key") else "")
    return Node(_STEPS[key], detail, children=tuple(children), actual=actual)


def _subquery(raw: Raw) -> Node:
    """A subquery next to its query: per row where it says that it depends on the row, or was run
    again and again.
    """
    inner = raw.get("query_block")
    cached = raw.get("expression_cache")
    # A cache in front counts until it is given up; the query after it counts every run.
    blocks = (inner, cached, cached.get("query_block") if isinstance(cached, dict) else None)
    loops = max(
        (int(_number(block, "r_loops") or 0) for block in blocks if isinstance(block, dict)),
        default=0,
    )
    dependent = bool(raw.get("dependent")) or isinstance(cached, dict) or loops > 1
    children = _below(raw)
    actual = Actual(0.0, loops, _total_ms(children)) if loops else None
    return Node(
        tree.SUBQUERY_PER_ROW if dependent else tree.SUBQUERY,
        "subquery",
        children=tuple(children),
        actual=actual,
    )


def _merged(raw: Any) -> Iterator[Raw]:
    """The indexes that are read together: union, sort_union or intersect, one inside the other."""
    if isinstance(raw, list):
        for one in raw:
            yield from _merged(one)
    elif isinstance(raw, dict) and "key" in raw:
        yield raw
    elif isinstance(raw, dict):
        for one in raw.values():
            yield from _merged(one)


def _kind(access: str, key: str, covering: bool) -> str:
    access = access.removeprefix("hash_").partition("|")[0]
    kind = _ACCESS.get(access, tree.INDEX_SEARCH if access else tree.OTHER)
    if kind == tree.INDEX_SEARCH and access in _BY_ONE_KEY and key == "PRIMARY":
        return tree.KEY_SEARCH
    return tree.INDEX_ONLY if kind == tree.INDEX_SEARCH and covering else kind


def _table(raw: Raw) -> Node:
    name = str(raw.get("table_name", ""))
    if not name:
        return Node(tree.CONSTANT, str(raw.get("message", "no table")))
    access, merged = str(raw.get("access_type", "")), list(_merged(raw.get("index_merge")))
    key = str(raw.get("key", "")) or ", ".join(str(one["key"]) for one in merged)
    product = name.startswith("<")
    children = _below(raw)
    kind = tree.OTHER_SCAN if product else _kind(access, key, bool(raw.get("using_index")))
    parts = raw.get("used_key_parts") or [
        part for one in merged for part in one.get("used_key_parts") or ()
    ]
    return Node(
        kind=kind,
        detail=f"{access} {name}".strip(),
        name=name,
        table="" if product else name,
        index=key,
        covering=bool(raw.get("using_index")),
        searched=() if kind in (tree.FULL_SCAN, tree.INDEX_SCAN) else tuple(map(str, parts)),
        children=tuple(children),
        answered=str(raw.get("index_condition", "")),
        filtered=str(raw.get("attached_condition", "")),
        estimate=_estimate(raw),
        actual=_actual(raw, _total_ms(children)),
        never=raw.get("r_loops") == 0 and access not in _BY_ONE_KEY,
    )


def _estimate(raw: Raw) -> Estimate | None:
    rows = _number(raw, "rows")
    rows = _number(raw, "rows_examined_per_scan") if rows is None else rows
    if rows is None:
        return None
    share = _number(raw, "filtered")
    info = raw.get("cost_info")
    cost = _number(info, "prefix_cost") if isinstance(info, dict) else _number(raw, "cost")
    return Estimate(rows * (100.0 if share is None else share) / 100.0, cost)


def _actual(raw: Raw, below_ms: float | None = None) -> Actual | None:
    """What was measured of a table; the time in which it was made, if it was, comes on top."""
    read, loops = _number(raw, "r_rows"), _number(raw, "r_loops")
    if read is None or not loops:
        return None
    share = _number(raw, "r_filtered")
    remaining = read * (100.0 if share is None else share) / 100.0
    times = [_number(raw, key) for key in ("r_table_time_ms", "r_other_time_ms", "r_total_time_ms")]
    known = [time for time in times if time is not None]
    return Actual(
        remaining,
        int(loops),
        sum(known) + (below_ms or 0.0) if known else None,
        removed=read - remaining,
    )


def _number(raw: Raw, key: str) -> float | None:
    """A number; MySQL writes some of them as text."""
    value = raw.get(key)
    if isinstance(value, str):
        try:
            return float(value)
        except ValueError:
            return None
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else None


# -- the table
# -------------------------------------------------------------------------------------------------------

_COLUMNS = ("id", "select_type", "table", "type")
_FRONT, _BACK = ("id", "select_type", "table"), ("type", "possible_keys", "key", "key_len", "ref")
# The headers of the systems' tables, by which rows without one are read (mariadb -N).
_HEADS = (
    (*_FRONT, *_BACK, "rows", "Extra"),
    (*_FRONT, *_BACK, "rows", "filtered", "Extra"),
    (*_FRONT, "partitions", *_BACK, "rows", "Extra"),
    (*_FRONT, "partitions", *_BACK, "rows", "filtered", "Extra"),
    (*_FRONT, *_BACK, "rows", "r_rows", "filtered", "r_filtered", "Extra"),
)
_SELECTS = re.compile(
    r"(?:(?:DEPENDENT|UNCACHEABLE|LATERAL) )?"
    r"(?:SIMPLE|PRIMARY|UNION|SUBQUERY|DERIVED|MATERIALIZED|INSERT|UPDATE|DELETE|REPLACE"
    r"|(?:UNION|INTERSECT|EXCEPT|UNIT) RESULT|INTERSECT|EXCEPT|RECURSIVE UNION)"
)
_ACCESSES = re.compile(
    r"NULL|(?:hash_)?(?:ALL|index|range|ref|eq_ref|const|system|fulltext|ref_or_null|index_merge"
    r"|unique_subquery|index_subquery|Using index)(?:\|filter)?"
)


def is_table(text: str) -> bool:
    """Whether a text has the head of EXPLAIN's table, or begins with a row of one."""
    rows = [cells for cells in map(_cells, text.splitlines()) if cells]
    return any(cells[:2] == ["id", "select_type"] for cells in rows) or (
        bool(rows) and _head_of(rows[0]) is not None
    )


def _head_of(cells: list[str]) -> list[str] | None:
    """The header that a row without one has by its cells; None for what is no row of EXPLAIN."""
    if len(cells) < 2 or not re.fullmatch(r"\d+|NULL", cells[0]) or not _SELECTS.match(cells[1]):
        return None
    fitting = [
        head
        for head in _HEADS
        if len(head) == len(cells) and _ACCESSES.fullmatch(cells[head.index("type")])
    ]
    # NULL is a type as well, and what is in the column of the partitions, if there are none
    fitting.sort(key=lambda head: cells[head.index("type")] == "NULL")
    return list(fitting[0]) if fitting else None


def read_table(text: str) -> tuple[Node, ...]:
    """The rows of EXPLAIN, framed with bars or parted by tabs, one under another. Raises
    UnreadablePlan.
    """
    head: list[str] = []
    rows: list[dict[str, str]] = []
    for number, line in enumerate(text.splitlines(), 1):
        cells = _cells(line)
        if not cells:
            continue
        if not head and cells[:2] == ["id", "select_type"]:
            head = cells
            continue
        head = head or _head_of(cells) or []
        if len(cells) == len(head):
            rows.append(dict(zip(head, cells, strict=True)))
        elif head and len(cells) > 1:
            raise UnreadablePlan(number, f"{len(cells)} columns where the header has {len(head)}")
    if not set(_COLUMNS) <= set(head):
        raise UnreadablePlan(1, "the table has no header with id, select_type, table and type")
    if not rows:
        raise UnreadablePlan(1, "the table has no rows")
    return tuple(_from_rows(rows))


def _cells(line: str) -> list[str]:
    bare = line.strip(" \r\n")
    if not bare.strip() or set(bare) <= set("+-=|"):
        return []
    if "\t" in bare:
        return [cell.strip() for cell in bare.split("\t")]
    # a cell may have a bar of its own: ref|filter
    bar = " | " if " | " in bare else "|"
    return [cell.strip() for cell in bare.strip("|").split(bar)] if "|" in bare else []


def _from_rows(rows: list[dict[str, str]]) -> list[Node]:
    """Rows of one id are joined in turn; later ids are what the first one uses."""
    groups: dict[str, list[dict[str, str]]] = {}
    for row in rows:
        groups.setdefault(row["id"], []).append(row)
    results = []
    for turn, group in enumerate(groups.values()):
        node = _joined([_row(row) for row in group])
        extras = " ".join(row.get("Extra", "") for row in group)
        if "Using temporary" in extras:
            node = Node(tree.MATERIALIZE, "Using temporary", children=(node,), actual=node.actual)
        if "Using filesort" in extras:
            node = Node(tree.SORT, "Using filesort", children=(node,), actual=node.actual)
        kind = group[0]["select_type"].upper()
        if turn and "SUBQUERY" in kind:
            per_row = "DEPENDENT" in kind or "UNCACHEABLE" in kind
            node = Node(
                tree.SUBQUERY_PER_ROW if per_row else tree.SUBQUERY,
                kind.lower(),
                children=(node,),
                actual=node.actual,
            )
        elif turn and kind in ("DERIVED", "MATERIALIZED", "LATERAL DERIVED"):
            node = Node(tree.MATERIALIZE, kind.lower(), children=(node,), actual=node.actual)
        results.append(node)
    first, rest = results[0], results[1:]
    if not rest:
        return results
    return [
        Node(
            first.kind,
            first.detail,
            first.name,
            first.table,
            first.index,
            first.covering,
            first.searched,
            children=(*first.children, *rest),
            filtered=first.filtered,
            estimate=first.estimate,
            actual=first.actual,
        )
    ]


def _row(row: Mapping[str, str]) -> Node:
    """A row of the table, by way of the JSON's names for the same things."""
    cells = {key: value for key, value in row.items() if value not in ("NULL", "")}
    extra = cells.get("Extra", "")
    raw: dict[str, Any] = {
        "table_name": cells.get("table", ""),
        "access_type": cells.get("type", ""),
        "message": extra,
    }
    raw |= {
        key: cells[key]
        for key in ("key", "rows", "filtered", "r_rows", "r_filtered")
        if key in cells
    }
    raw["using_index"] = "Using index" in extra and "Using index condition" not in extra
    if "r_rows" in cells:
        raw["r_loops"] = 1
    if "r_rows" in cells and "Using where" in extra and "Using filesort" in extra:
        raw.pop("rows", None)  # it counts what was sorted, and the estimate what was read
    if "Using where" in extra:
        raw["attached_condition"] = "a condition that the table does not show"
    return _table(raw)
