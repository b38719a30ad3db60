"""What is said of plans and indexes, in the same words in every format. Nothing here draws."""

from __future__ import annotations

from collections.abc import Sequence

from askless.core.formatting import listed, number, plural, size
from askless.output.text import milliseconds, one_line, percent
from askless.reports import documents

Labelled = list[tuple[str, str]]


def executions(row: documents.PlanRow) -> str:
    """How often a statement was asked, and from where; '' for one that was typed."""
    if not row.queries:
        return ""
    return (
        f"{plural(row.queries, 'query')}, {milliseconds(row.total_ms)} ms in total, from "
        f"{', '.join(row.routes[:3])}"
    )


def planning(row: documents.PlanRow) -> str:
    """What planning takes; '' where it is not known."""
    if row.planning_ms is None:
        return ""
    return f"planning it takes {milliseconds(row.planning_ms)} ms each time its text is new"


def coverage(document: documents.PlanDocument) -> str:
    """How many of the statements these are, and of their time; '' where none was chosen."""
    if len(document.statements) >= document.shapes:
        return ""
    return (
        f"{len(document.statements)} of {plural(document.shapes, 'statement')}, "
        f"which take {percent(document.time_share)} of the time; indexes for all of them together: "
        "askless indexes CAPTURE --db URL"
    )


GENERIC = "once it is prepared and run often, the server may plan it without its values:"
NO_INDEX = "no index to advise"


def target(node: documents.PlanNode) -> str:
    """What a step reads, and by which index."""
    on = f" on {node.table}" + (f" as {node.alias}" if node.alias else "") if node.table else ""
    return on + (f" by {node.index}" if node.index else "")


def table_size(node: documents.PlanNode) -> str:
    """How large the table is; '' where that is not known."""
    return f"({node.rows:,} rows in the table)" if node.rows is not None else ""


def detail(node: documents.PlanNode) -> str:
    """The server's own words, if they are others."""
    return one_line(node.detail, 200) if _letters(node.detail) != _letters(node.kind) else ""


def condition(node: documents.PlanNode) -> str:
    """The condition, if the server's words do not have it."""
    return (
        one_line(node.condition, 300)
        if node.condition and node.condition not in node.detail
        else ""
    )


def _letters(text: str) -> str:
    return "".join(letter for letter in text.lower() if letter.isalpha())


def numbers(node: documents.PlanNode) -> str:
    """What was expected of a node, what came, and how long it took."""
    parts = []
    if node.loops == 0:
        parts.append("never run")
    elif node.actual_rows is not None:
        times = f" × {node.loops:,}" if (node.loops or 1) > 1 else ""
        parts.append(f"{plural(node.actual_rows, 'row')}{times}")
        if node.estimated_rows is not None:
            parts.append(f"{number(node.estimated_rows)} expected")
    elif node.estimated_rows is not None:
        parts.append(f"{plural(node.estimated_rows, 'row')} expected")
    if node.own_ms is not None:
        parts.append(f"{milliseconds(node.own_ms)} ms own time")
    if node.share is not None:
        parts.append(f"{percent(node.share)} of the time")
    return ", ".join(parts)


def to_try(index: documents.IndexRow) -> Labelled:
    """What is to be known of an index for one statement."""
    writes = "no writes to the table in the capture"
    if index.writes:
        writes = (
            f"{plural(index.writes, 'write')} to {index.table} in the capture would each have to "
            "maintain it"
        )
    effect = ""
    if index.rows_before is not None and index.rows_after is not None:
        effect = (
            f"touches about {plural(index.rows_after, 'row')} of {index.table} instead of "
            f"{number(index.rows_before)}"
        )
        effect += " (estimate: the condition's selectivity is unknown)" if index.guessed else ""
    rows = [
        ("why", index.why),
        ("effect", effect),
        ("cost", f"about {size(index.size_bytes)}; {writes}"),
    ]
    rows += [("or", index.partial + ", if only these rows are queried")] if index.partial else []
    rows += _dropped(index.redundant)
    return rows + [("check", text) for text in index.verify]


def advised(index: documents.AdvisedIndex) -> Labelled:
    """What is to be known of an index of the set."""
    writes = "no writes to it in the capture"
    if index.writes:
        writes = f"{plural(index.writes, 'write')} in the capture would each have to maintain it"
    rows = [
        ("why", index.why + (" (estimate: not checked on the database)" if index.guessed else "")),
        ("cost", f"about {size(index.size_bytes)}; {writes}"),
    ]
    rows += _dropped(index.redundant)
    return rows + ([("or", index.partial + ", for these rows only")] if index.partial else [])


def _dropped(redundant: Sequence[str]) -> Labelled:
    return [("drop", f"{name}, which it makes redundant") for name in redundant]


def how_many(document: documents.IndexesDocument) -> str:
    """How many indexes are advised, and for what."""
    read = f"{plural(document.shapes, 'shape')} of {document.capture}"
    if not document.indexes:
        return f"No index to advise for {read}."
    together = sum(index.size_bytes for index in document.indexes)
    writes = sum(index.writes for index in document.indexes)
    return (
        f"{plural(len(document.indexes), 'index')} for {read}: about {size(together)} together, "
        + (
            f"changed {plural(writes, 'time')} by the writes in the capture"
            if writes
            else "and no write in the capture changes them"
        )
    )


def left_unread(document: documents.IndexesDocument) -> str:
    """What of the capture does not count."""
    if not document.unread:
        return ""
    return (
        f"{plural(document.unread, 'shape')} could not be parsed or use other tables; they are "
        "not included"
    )


REDUNDANT = "Redundant: a longer index starts with the same columns"
BARE_KEYS = "Foreign keys without an index"
KEYS_MOST = 5  # of those that nothing looks up by, that are named


def unasked(document: documents.IndexesDocument) -> str:
    """How many indexes that look redundant are not judged."""
    if not document.unjudged_indexes:
        return ""
    return (
        f"{plural(document.unjudged_indexes, 'index')} on tables that the capture never uses: not "
        "checked"
    )


def missed_keys(document: documents.IndexesDocument) -> list[documents.BareForeignKey]:
    """The foreign keys without an index that something in the capture looks up or joins by."""
    return [key for key in document.foreign_keys if key.shapes]


def other_keys(document: documents.IndexesDocument) -> str:
    """The others, in a line; '' where there is none."""
    others = [key for key in document.foreign_keys if not key.shapes]
    if not others:
        return ""
    names = listed([f"{key.table}.{'+'.join(key.columns)}" for key in others], KEYS_MOST)
    return (
        f"{plural(len(others), 'foreign key')} without an index that nothing in the capture looks "
        f"up "
        f"by (deleting a parent scans the whole table): {names}"
    )


def bare_key(key: documents.BareForeignKey) -> str:
    """A foreign key without an index, and who misses it."""
    missed = "no query in the capture uses it; deleting a parent scans the whole table"
    if key.shapes:
        missed = f"{plural(len(key.shapes), 'shape')} in the capture use it for lookups or joins"
    rows = f" ({key.rows:,} rows)" if key.rows is not None else ""
    return f"{key.table}.{', '.join(key.columns)} → {key.target}{rows}: {missed}"


def estimated_from(document: documents.IndexesDocument) -> str:
    """What the rows are estimated from."""
    how = (
        "the capture's values, checked on the database"
        if document.measured
        else "the saved schema alone"
    )
    return f"Rows are estimated from {how}."
