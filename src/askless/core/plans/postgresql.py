"""Reads PostgreSQL's plans: EXPLAIN (FORMAT JSON), and the text form as people paste it (psql's
frame included).

Both become the same nested dictionaries, with the keys of the JSON form, and then nodes. Rows and
times of a node are per loop there; times are multiplied out here.
https://www.postgresql.org/docs/current/using-explain.html
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from typing import Any

from askless.core.plans import tree
from askless.core.plans.errors import LOST_INDENTATION, UnreadablePlan
from askless.core.plans.pasted_text import FRAME
from askless.core.plans.tree import Actual, Estimate, Node
from askless.core.plans.wall_time import settled

Raw = dict[str, Any]

# What a node type is called, by the beginning of its name; the first that fits.
_KINDS = (
    ("Seq Scan", tree.FULL_SCAN), ("Sample Scan", tree.FULL_SCAN),
    ("Index Only Scan", tree.INDEX_ONLY), ("Index Scan", tree.INDEX_SEARCH),
    ("Bitmap Heap Scan", tree.INDEX_SEARCH), ("Bitmap Index Scan", tree.BITMAP),
    ("BitmapAnd", tree.BITMAP), ("BitmapOr", tree.BITMAP), ("Tid", tree.KEY_SEARCH),
    ("Nested Loop", tree.NESTED_LOOP), ("Nestloop", tree.NESTED_LOOP),
    ("Hash Join", tree.HASH_JOIN), ("Merge Join", tree.MERGE_JOIN), ("HashSetOp", tree.COMPOUND),
    ("Hash Left", tree.HASH_JOIN), ("Hash Right", tree.HASH_JOIN), ("Hash Full", tree.HASH_JOIN),
    ("Hash Semi", tree.HASH_JOIN), ("Hash Anti", tree.HASH_JOIN), ("Merge Append", tree.COMPOUND),
    ("Merge ", tree.MERGE_JOIN), ("HashAggregate", tree.GROUP), ("GroupAggregate", tree.GROUP),
    ("MixedAggregate", tree.GROUP), ("Hash", tree.HASH), ("Group", tree.GROUP),
    ("Aggregate", tree.AGGREGATE), ("WindowAgg", tree.WINDOW), ("Sort", tree.SORT),
    ("Incremental Sort", tree.SORT), ("Unique", tree.DISTINCT), ("Limit", tree.LIMIT),
    ("Materialize", tree.MATERIALIZE), ("Memoize", tree.MEMOIZE), ("Gather", tree.GATHER),
    ("Append", tree.COMPOUND), ("SetOp", tree.COMPOUND), ("Recursive Union", tree.COMPOUND),
    ("Subquery Scan", tree.SUBQUERY), ("Result", tree.CONSTANT), ("Values Scan", tree.CONSTANT),
    ("Function Scan", tree.OTHER_SCAN), ("CTE Scan", tree.OTHER_SCAN),
    ("WorkTable Scan", tree.OTHER_SCAN), ("Table Function Scan", tree.OTHER_SCAN),
    ("Named Tuplestore", tree.OTHER_SCAN), ("Foreign Scan", tree.OTHER_SCAN),
    ("Insert", tree.WRITE), ("Update", tree.WRITE), ("Delete", tree.WRITE), ("Merge", tree.WRITE),
    ("ModifyTable", tree.WRITE), ("LockRows", tree.LOCK),
)  # fmt: skip
_MODES = re.compile(r"^(?:Parallel |Partial |Finalize |Simple |Async )+")
_CONDITIONS = ("Index Cond", "Recheck Cond", "TID Cond", "Hash Cond", "Merge Cond")
_FILTERS = ("Filter", "Join Filter", "One-Time Filter")
_NAME = re.compile(
    r"(?<![\w.\"'$])\"?([A-Za-z_]\w*)\"?(?:\)?::[\w ]+(?:\[\])?\)?)?\s*(?:[=<>!~]|IS |~~|@>|= "
    r"ANY|IN )"
)


def is_json(text: str) -> bool:
    """Whether a text looks like the JSON form."""
    return text.lstrip().startswith(("[", "{")) and '"Plan"' in text and '"query_block"' not in text


def read_json(text: str) -> tuple[Node, ...]:
    """EXPLAIN (FORMAT JSON). Raises UnreadablePlan."""
    try:
        result = json.loads(text)
    except ValueError as error:
        raise UnreadablePlan(
            getattr(error, "lineno", 1), f"it is not valid JSON: {error}"
        ) from None
    if isinstance(result, dict):
        result = [result]
    plans = [
        entry["Plan"]
        for entry in result
        if isinstance(entry, dict) and isinstance(entry.get("Plan"), dict)
    ]
    if not plans:
        raise UnreadablePlan(1, "the JSON contains no Plan")
    return settled(tuple(_node(plan) for plan in plans))


# -- from raw dictionaries to nodes
# ----------------------------------------------------------------------------------


def _kind(raw: Mapping[str, Any]) -> str:
    name = _MODES.sub("", str(raw.get("Node Type", "")))
    kind = next((kind for start, kind in _KINDS if name.startswith(start)), tree.OTHER)
    if kind == tree.AGGREGATE and (
        raw.get("Strategy") in ("Hashed", "Sorted", "Mixed") or raw.get("Group Key")
    ):
        return tree.GROUP
    if (
        kind in (tree.INDEX_SEARCH, tree.INDEX_ONLY)
        and name.startswith("Index")
        and not raw.get("Index Cond")
    ):
        return tree.INDEX_SCAN
    return kind


_OUTER = re.compile(" (Left|Right|Full) Join")  # of a plan's text form


def _node(raw: Mapping[str, Any]) -> Node:
    said = " ".join(value for value in raw.values() if isinstance(value, str))
    children = []
    for child in raw.get("Plans", ()):
        hashed = f"hashed {child.get('Subplan Name', '-').split(' (')[0]}" in said
        children.append(_node({**child, "Hashed": True} if hashed else child))
    kind = _kind(raw)
    answered = next((str(raw[key]) for key in _CONDITIONS if raw.get(key)), "")
    filtered = " AND ".join(str(raw[key]) for key in _FILTERS if raw.get(key))
    index = str(raw.get("Index Name", ""))
    if str(raw.get("Node Type", "")).endswith("Bitmap Heap Scan"):
        index = ", ".join(node.index for child in children for node in child.walk() if node.index)
    join = str(raw.get("Join Type", ""))
    node = Node(
        kind=kind,
        detail=_words(raw, join),
        name=str(raw.get("Alias", raw.get("Relation Name", ""))),
        table=str(raw.get("Relation Name", "")),
        index=index,
        covering=kind == tree.INDEX_ONLY,
        searched=_columns(answered)
        if kind in (tree.INDEX_SEARCH, tree.INDEX_ONLY, tree.BITMAP)
        else (),
        outer=join in ("Left", "Right", "Full")
        or _OUTER.search(str(raw.get("Node Type"))) is not None,
        children=tuple(children),
        answered=answered,
        filtered=filtered,
        estimate=_estimate(raw),
        actual=_actual(raw),
        never=raw.get("Actual Loops") == 0,
    )
    return _under(raw, node)


def _under(raw: Mapping[str, Any], node: Node) -> Node:
    """A subplan under a node of its own that says how often it runs."""
    relation, name = raw.get("Parent Relationship"), str(raw.get("Subplan Name", ""))
    if relation not in ("InitPlan", "SubPlan") and not name:
        return node
    per_row = (relation == "SubPlan" or name.startswith("SubPlan")) and not raw.get("Hashed")
    if per_row and node.actual is not None and node.actual.loops <= 1:
        per_row = False
    return Node(
        kind=tree.SUBQUERY_PER_ROW
        if per_row
        else tree.MATERIALIZE
        if name.startswith("CTE")
        else tree.SUBQUERY,
        detail=name or str(relation),
        children=(node,),
        estimate=node.estimate,
        actual=node.actual,
        never=node.never,
    )


# What the text calls a step that JSON tells by its strategy.
_BY_STRATEGY = {
    ("Aggregate", "Hashed"): "HashAggregate", ("Aggregate", "Sorted"): "GroupAggregate",
    ("Aggregate", "Mixed"): "MixedAggregate", ("SetOp", "Hashed"): "HashSetOp",
}  # fmt: skip


def _words(raw: Mapping[str, Any], join: str) -> str:
    words = str(raw.get("Node Type", "?"))
    words = _BY_STRATEGY.get(
        (words, str(raw.get("Strategy", ""))), str(raw.get("Operation", words))
    )
    # JSON tells next to the step what the text says before it
    mode = str(raw.get("Partial Mode", "Simple"))
    words = (
        (f"{mode} " if mode != "Simple" else "")
        + ("Parallel " if raw.get("Parallel Aware") else "")
        + words
    )
    if raw.get("CTE Name"):
        words += f" on {raw['CTE Name']}"
    keys = raw.get("Sort Key") or raw.get("Group Key")
    if keys:
        words += " by " + (keys if isinstance(keys, str) else ", ".join(map(str, keys)))
    if join and join != "Inner" and " Join" in words:
        words = words.replace(" Join", f" {join} Join")
    elif join and join != "Inner":
        words += f" {join} Join"
    return words


def _columns(condition: str) -> tuple[str, ...]:
    return tuple(dict.fromkeys(_NAME.findall(condition)))


def _estimate(raw: Mapping[str, Any]) -> Estimate | None:
    if "Plan Rows" not in raw:
        return None
    return Estimate(float(raw["Plan Rows"]), _number(raw, "Total Cost"), _whole(raw, "Plan Width"))


def _spilled_kb(raw: Mapping[str, Any]) -> float:
    """What a sort, an aggregate or a hash join wrote to disk, with all its workers."""
    disk = 0.0
    for part in (raw, *raw.get("Workers", ())):
        disk += _number(part, "Disk Usage") or 0.0
        if part.get("Sort Space Type") == "Disk":
            disk += _number(part, "Sort Space Used") or 0.0
    # A hash join names no size. The blocks that it wrote contain those of the steps below it.
    if disk or raw.get("Node Type") != "Hash" or (_whole(raw, "Hash Batches") or 1) <= 1:
        return disk
    below = sum(_whole(child, "Temp Written Blocks") or 0 for child in raw.get("Plans", ()))
    written = max((_whole(raw, "Temp Written Blocks") or 0) - below, 0) * 8
    return written or _number(raw, "Peak Memory Usage") or 0.0


def _actual(raw: Mapping[str, Any]) -> Actual | None:
    loops = _whole(raw, "Actual Loops")
    if loops is None:
        return None
    time_ms = _number(raw, "Actual Total Time")
    removed = sum(_number(raw, key) or 0.0 for key in raw if key.startswith("Rows Removed by"))
    return Actual(
        rows=_number(raw, "Actual Rows") or 0.0,
        loops=loops,
        total_ms=time_ms * max(loops, 0) if time_ms is not None else None,
        removed=removed,
        spilled_bytes=int(_spilled_kb(raw) * 1024),
        blocks_hit=_whole(raw, "Shared Hit Blocks") or 0,
        blocks_read=_whole(raw, "Shared Read Blocks") or 0,
    )


def _number(raw: Mapping[str, Any], key: str) -> float | None:
    value = raw.get(key)
    return float(value) if isinstance(value, int | float) else None


def _whole(raw: Mapping[str, Any], key: str) -> int | None:
    value = _number(raw, key)
    return int(value) if value is not None else None


# -- the text form
# ---------------------------------------------------------------------------------------------------

_ARROW = re.compile(r"^(\s*)->\s+(.*)$")
_SECTION = re.compile(r"^(InitPlan|SubPlan|CTE)\b.*$")
_MEASURES = re.compile(
    r"\s*(?:\(cost=(?P<first>[\d.]+)\.\.(?P<cost>[\d.]+) rows=(?P<rows>\d+) "
    r"width=(?P<width>\d+)\))?"
    r"\s*(?:\((?P<never>never executed)\)"
    r"|\(actual (?:time=(?P<begin>[\d.]+)\.\.(?P<time>[\d.]+) )?rows=(?P<found>[\d.]+) "
    r"loops=(?P<loops>\d+)\))?\s*$"
)
_SCAN = re.compile(
    r"^(?P<type>.*?Scan(?: Backward)?|Insert|Update|Delete|Merge)(?: using "
    r"(?P<index>\"[^\"]+\"|\S+))? on (?P<on>.+)$"
)
_BY_INDEX = re.compile(r"^(?P<type>.*?Bitmap Index Scan) on (?P<index>.+)$")
_ON = re.compile(
    r"^(?:(?P<schema>\"[^\"]+\"|[^\s.\"]+)\.)?(?P<table>\"[^\"]+\"|\S+)(?: (?P<alias>.+))?$"
)
_PROPERTY = re.compile(r"^([A-Z][\w /'().-]*?):\s*(.*)$")
_FOOTERS = (
    "Planning", "Execution Time", "Total runtime", "JIT", "Trigger", "Settings", "Query Identifier",
    "Functions:", "Options:", "Timing:", "Serialization", "Buffers:", "Time:",
)  # fmt: skip


def is_text(text: str) -> bool:
    """Whether a text's first line, or any, looks like a step of a plan."""
    if text.lstrip().startswith(("[", "{")):
        return False
    lines = (_bare(line) for line in text.splitlines())
    first = next((line.strip() for line in lines if line.strip() and not FRAME.match(line)), "")
    named = any(_MODES.sub("", first).startswith(start) for start, _ in _KINDS)
    return named or any(sign in text for sign in ("(cost=", "->", "(actual "))


def _lines(text: str) -> Iterator[tuple[int, str]]:
    """The numbered lines that tell of the plan."""
    lines = text.splitlines()
    first = _first_step(lines)
    for number, line in enumerate(lines, 1):
        bare = _bare(line)
        if number >= first and bare.strip() and not FRAME.match(bare):
            yield number, bare


def _leave(stack: list[tuple[int, Raw]], column: int, at_least: int) -> None:
    """Leave the steps that do not contain a line that begins at this column."""
    while len(stack) > at_least and stack[-1][0] >= column:
        stack.pop()


def _column(line: str) -> int:
    return len(line) - len(line.lstrip())


def _is_footer(words: str, column: int, above: int) -> bool:
    """Whether a line is about planning or the whole statement. Buffers are of the step above."""
    footer = words.startswith(_FOOTERS) and above < column <= 2
    return footer and not words.startswith("Buffers:")


def read_text(text: str) -> tuple[Node, ...]:
    """The text form. Raises UnreadablePlan, which names the line."""
    stack: list[tuple[int, Raw]] = []
    roots: list[Raw] = []
    section: tuple[int, str] = (-1, "")
    lines = list(_lines(text))
    _check_indentation(lines)
    for number, bare in lines:
        words, column = bare.strip(), _column(bare)
        arrow = _ARROW.match(bare)
        if arrow or not roots:
            raw = _raw(arrow[2] if arrow else words)
            if raw is None:
                raise UnreadablePlan(
                    number, f"this is not a step of a PostgreSQL plan: {words[:60]!r}"
                )
            column = column if arrow else -1
            _leave(stack, column, 0)
            if stack and column > section[0] >= 0:
                raw["Subplan Name"] = section[1]
                section = (-1, "")
            above = stack[-1][1].setdefault("Plans", []) if stack else roots
            above.append(raw)
            stack.append((column, raw))
        elif _SECTION.match(words) and not _PROPERTY.match(words):
            _leave(stack, column, 1)
            section = (column, words)
        elif not _is_footer(words, column, stack[-1][0]):
            _check_property(number, words)
            _property(stack[-1][1], words)
    if not roots:
        raise UnreadablePlan(1, "there is no plan in it")
    return settled(tuple(_node(raw) for raw in roots))


def _check_indentation(lines: list[tuple[int, str]]) -> None:
    """Raises UnreadablePlan if several steps begin where the first one does, or before it."""
    arrows = [(number, _column(bare)) for number, bare in lines[1:] if _ARROW.match(bare)]
    flat = [number for number, column in arrows if column <= _column(lines[0][1])]
    if len(flat) > 1:
        raise UnreadablePlan(flat[1], LOST_INDENTATION)


def _check_property(number: int, words: str) -> None:
    """Raises UnreadablePlan for a step among the lines below one."""
    measures = _MEASURES.search(words)
    if measures is not None and measures[0].strip():
        raise UnreadablePlan(number, f"this step has no arrow: {words[:60]!r}")


def _first_step(lines: list[str]) -> int:
    """The line where the plan begins: a server's log has a head before it, and the statement."""
    head = next((line for line in lines if line.strip() and not FRAME.match(_bare(line))), "")
    if not re.match(r"^.*\bplan:\s*$|^\s*Query Text:", head):
        return 1
    result = (
        number for number, line in enumerate(lines, 1) if "(cost=" in line or "(actual " in line
    )
    return next(result, 1)


def _bare(line: str) -> str:
    """A line without the frame that psql and other tools draw."""
    line = line.rstrip().expandtabs()
    if line.startswith("|") and line.endswith("|"):
        line = line[1:-1].rstrip()
    return re.sub(r"\s*\+$", "", line) if line.endswith("+") else line


def _raw(words: str) -> Raw | None:
    """A step's line as the JSON form has it; None if it is none."""
    match = _MEASURES.search(words)
    head = words[: match.start()].strip() if match is not None else words
    if not head[:1].isalpha() or (":" in head and "Scan" not in head and " on " not in head):
        return None
    raw = _step(head)
    if match is None:
        return raw
    if match["rows"]:
        raw |= {
            "Plan Rows": float(match["rows"]),
            "Total Cost": float(match["cost"]),
            "Plan Width": int(match["width"]),
        }
    if match["never"]:
        raw["Actual Loops"] = 0
    elif match["loops"]:
        raw |= {"Actual Rows": float(match["found"]), "Actual Loops": int(match["loops"])}
        if match["time"]:
            raw["Actual Total Time"] = float(match["time"])
    return raw


def _step(head: str) -> Raw:
    """What a step's words say of its kind, its index and what it reads."""
    by_index = _BY_INDEX.match(head)
    if by_index:
        return {"Node Type": by_index["type"], "Index Name": _plain(by_index["index"])}
    scan = _SCAN.match(head)
    if not scan:
        return {"Node Type": head}
    raw: Raw = {"Node Type": scan["type"].removesuffix(" Backward")}
    if scan["index"]:
        raw["Index Name"] = _plain(scan["index"])
    on = _ON.match(scan["on"])
    if on:
        name = _plain(on["table"])
        if "CTE" in scan["type"] or "WorkTable" in scan["type"]:
            raw["CTE Name"] = name
        elif not _NO_TABLE.search(scan["type"]):
            raw["Relation Name"] = name
        raw["Alias"] = _plain(on["alias"]) if on["alias"] else name
    return raw


_NO_TABLE = re.compile("Function|Values|Subquery|Tuplestore")


def _plain(name: str) -> str:
    return name.strip('"')


def _property(raw: Raw, words: str) -> None:
    """A line below a step: `Filter: (x > 1)`, `Buffers: shared hit=3 read=1`, `Sort Method:
    external merge  Disk: 9kB`.
    """
    match = _PROPERTY.match(words)
    if match is None:
        return
    key, value = match[1], match[2]
    if key == "Buffers":
        for kind, name in (("hit", "Shared Hit Blocks"), ("read", "Shared Read Blocks")):
            amount = re.search(rf"shared(?: \w+=\d+)*? {kind}=(\d+)", value)
            if amount:
                raw[name] = int(amount[1])
        written = re.search(r"temp .*?written=(\d+)", value)
        if written:
            raw["Temp Written Blocks"] = int(written[1])
    elif key == "Sort Method":
        raw |= _sort_space(value)
    elif key.startswith("Worker "):
        raw.setdefault("Workers", []).append(_sort_space(value) | _hash_space(value))
    elif key in ("Batches", "Buckets", "Planned Partitions"):
        raw |= _hash_space(words)
    elif key.startswith("Rows Removed by"):
        amount = re.match(r"[\d.]+", value)
        raw[key] = float(amount[0]) if amount else 0.0
    else:
        raw.setdefault(key, value)


def _sort_space(words: str) -> Raw:
    """What a sort says that it wrote: `external merge  Disk: 9kB`."""
    disk = re.search(r"(?<!Peak )\bDisk: (\d+)kB", words)
    return {"Sort Space Type": "Disk", "Sort Space Used": int(disk[1])} if disk else {}


def _hash_space(words: str) -> Raw:
    """What a hash table says of itself: `Batches: 2  Memory Usage: 9kB  Disk Usage: 9kB`."""
    parts = {
        "Hash Batches": r"Batches: (\d+)",
        "Peak Memory Usage": r"Memory Usage: (\d+)kB",
        "Disk Usage": r"Disk Usage: (\d+)kB",
    }
    matches = {key: re.search(pattern, words) for key, pattern in parts.items()}
    return {key: int(match[1]) for key, match in matches.items() if match is not None}
