"""What a plan shows by its own numbers, without schema or statement: estimates against what was
found, work thrown away.

Worded for someone who has never read a plan. Rows of a node are per loop; sums say so.
"""

from __future__ import annotations

import re

from askless.core.formatting import plural, size
from askless.core.plans import tree
from askless.core.plans.observations import Observation
from askless.core.plans.tree import Actual, Node
from askless.core.systems import Statistics, system_of

OFF_BY = 10.0  # an estimate off by this factor, or more
OFF_ROWS_LEAST = 100  # and by so many rows: 1 for 12 is not worth a note
REMOVED_LEAST = 1000  # rows that were read and thrown away, over all loops
REMOVED_SHARE = 0.9
INNER_LOOPS_LEAST = 1000  # runs of the inner side of a nested loop
_ENDS_EARLY = (tree.LIMIT, tree.MERGE_JOIN)  # may stop before their children's rows are at an end
# the second side stops at its first row
_ONE_MATCH = re.compile(r"\b(?:semi|anti)[ -]?join\b|\bfirst ?match\b", re.I)
_CALL = re.compile(r"\b(?!and\b|or\b|in\b|any\b|not\b)[a-z_]\w*\(", re.I)
_SEVERAL = re.compile(r"\band\b", re.I)
_EQUAL = re.compile(r"(?<![<>!])=")
SUM_MOST = 1.2  # of the plan's time, to which the times of its steps may come, as they are rounded
SHARE_LEAST = 0.25  # of the plan's time, from which a node's repetition matters


def _odd_times(plan: tuple[Node, ...], total_ms: float) -> list[Observation]:
    own_ms = sum(node.own_ms or 0.0 for node in tree.walk(plan))
    if not plan or not total_ms or own_ms <= SUM_MOST * total_ms:
        return []
    text = (
        f"the times of its steps come to {100 * own_ms / total_ms:.0f} % of the total: parts of "
        "this plan were not understood, so the shares are approximate"
    )
    return [Observation(plan[0], "odd-times", text)]


def _per_row(node: Node) -> list[Observation]:
    loops = node.actual.loops if node.actual is not None else None
    if loops == 1:
        return []
    runs = f" ({loops:,} times)" if loops is not None and loops > 1 else ""
    text = (
        f"this subquery runs again for every row of the query around it{runs}; a join with a "
        "GROUP BY runs once"
    )
    return [Observation(node, "per-row", text)]


def observe_measured(
    plan: tuple[Node, ...], system: str, one_row: bool = False
) -> list[Observation]:
    """The observations that a plan's own numbers allow. `one_row`: the statement asks for one row
    by its key.
    """
    statistics = system_of(system).statistics
    total_ms = sum(node.total_ms for node in plan)
    results = _odd_times(plan, total_ms)
    cut_short = _cut_short(plan)
    for node in tree.walk(plan):
        actual = node.actual
        if node.kind == tree.SUBQUERY_PER_ROW and not one_row:
            results += _per_row(node)
        if actual is None:
            continue
        results += _estimated(node, actual, id(node) in cut_short, statistics)
        results += _removed(node, actual)
        if actual.spilled_bytes:
            first = not any(seen.slug == "spills" for seen in results)
            results.append(Observation(node, "spills", _spilled(actual.spilled_bytes, first)))
        if node.kind == tree.NESTED_LOOP:
            results += _inner(node, total_ms)
    return results


def _spilled(spilled_bytes: int, first: bool) -> str:
    """What a step wrote to disk; the first of a plan's steps says what helps."""
    text = f"did not fit into its memory and wrote {size(spilled_bytes)} to disk"
    remedy = "; more work memory, or fewer and narrower rows, keep it in memory"
    return text + (remedy if first else "")


def _cut_short(plan: tuple[Node, ...]) -> set[int]:
    """The nodes that may stop before their rows are at an end: below a limit, if one match is
    enough, if none may be.
    """
    results: set[int] = set()
    for above in tree.walk(plan):
        below: tuple[Node, ...] = ()
        if above.kind in _ENDS_EARLY:
            below = (above,)
        elif _ONE_MATCH.search(above.detail):
            below = above.children[1:]
        elif (
            above.kind in (tree.SUBQUERY, tree.SUBQUERY_PER_ROW)
            and above.actual is not None
            and above.actual.rows <= 1
        ):
            below = above.children
        results |= {id(node) for start in below for node in start.walk()}
    return results


def _is_guess(node: Node, expected: float, actual: Actual) -> bool:
    """Whether the planner had an estimate of its own: not of a table that it makes itself, nor
    where it takes a condition to keep all rows, as it has no histogram of the column.
    """
    if node.index.startswith("<"):
        return False
    read = actual.rows + actual.removed
    if node.kind == tree.FILTER and node.children and node.children[0].estimate is not None:
        given = node.children[0].estimate.rows
        return not (actual.rows < expected and 0.9 * given <= expected <= 1.1 * given)
    return not (node.filtered and actual.removed and 0.9 * read <= expected <= 1.1 * read)


def _is_off(node: Node, cut_short: bool) -> bool:
    """Whether a node's estimate is wrong by itself. Fewer rows than expected are no error where the
    reading was cut short.
    """
    if node.estimate is None or node.actual is None or not node.actual.loops:
        return False
    expected, seen = max(node.estimate.rows, 1.0), max(node.actual.rows, 1.0)
    if (seen < expected and cut_short) or not _is_guess(node, expected, node.actual):
        return False
    off = max(expected, seen) / min(expected, seen) >= OFF_BY
    return off and abs(expected - seen) * node.actual.loops >= OFF_ROWS_LEAST


def _estimated(
    node: Node, actual: Actual, cut_short: bool, statistics: Statistics
) -> list[Observation]:
    """The estimate that was wrong first: what is above it is wrong for that reason."""
    if not _is_off(node, cut_short) or any(
        _is_off(n, cut_short) for child in node.children for n in child.walk()
    ):
        return []
    assert node.estimate is not None
    expected, seen = max(node.estimate.rows, 1.0), max(actual.rows, 1.0)
    factor = max(expected, seen) / min(expected, seen)
    more = "more" if seen > expected else "fewer"
    each = " each time" if actual.loops > 1 else ""
    text = (
        f"the planner expected {plural(expected, 'row')} and got "
        f"{plural(actual.rows, 'row')}{each}: {factor:.0f} times {more}, so it may have chosen a "
        f"bad plan; {_cure(node, statistics)}"
    )
    return [Observation(node, "estimate-off", text)]


def _cure(node: Node, statistics: Statistics) -> str:
    """What may fix an estimate."""
    condition = " AND ".join(part for part in (node.answered, node.filtered) if part)
    if _SEVERAL.search(condition):
        return statistics.several
    return statistics.expression if _CALL.search(condition) else statistics.one


def _removed(node: Node, actual: Actual) -> list[Observation]:
    removed, passed = actual.removed * actual.loops, actual.rows * actual.loops
    if removed < REMOVED_LEAST or removed < REMOVED_SHARE * (removed + passed):
        return []
    condition = f": {node.filtered} is checked on each of them" if node.filtered else ""
    text = f"reads {plural(removed + passed, 'row')} to keep {plural(passed, 'row')}{condition}"
    return [Observation(node, "reads-many", text)]


def _inner(node: Node, total_ms: float) -> list[Observation]:
    if len(node.children) < 2:
        return []
    inner = node.children[1]
    actual = inner.actual
    if actual is None or actual.loops < INNER_LOOPS_LEAST:
        return []
    if actual.total_ms is not None and total_ms and actual.total_ms < SHARE_LEAST * total_ms:
        return []
    on = f" of {inner.table}" if inner.table else ""
    text = f"its inner side{on} runs {actual.loops:,} times, once for each row of the outer side"
    if any(
        _EQUAL.search(words)
        for words in (node.filtered, node.answered, inner.answered, inner.filtered)
    ):
        text += "; a hash join would read it once"
    return [Observation(inner, "inner-loops", text)]
