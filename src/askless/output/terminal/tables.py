"""What the terminal shows of a database's tables."""

from __future__ import annotations

from collections.abc import Mapping, Set

from rich.console import Console
from rich.text import Text

from askless.core.formatting import size
from askless.core.records.schema import Table
from askless.output.terminal.drawing import table_of
from askless.output.text import safe
from askless.reports import documents


def tables(out: Console, document: documents.TablesDocument) -> None:
    """Tables with sizes, keys and indexes; foreign keys without an index and indexes with a longer
    twin stand out.
    """
    bare = {(key.table, key.columns) for key in document.bare_keys}
    redundant = {(gone.table, gone.index): gone.by for gone in document.redundant}
    listed = table_of(
        ("table", "l"), ("rows", "r"), ("size", "r"), ("a row", "r"), ("keys and indexes", "l")
    )
    for table in document.tables:
        rows = f"{table.rows:,}" if table.rows is not None else "?"
        width = sum(column.width_bytes or 0.0 for column in table.columns)
        listed.add_row(
            Text(safe(table.name), style="bold"),
            rows,
            size(table.bytes) if table.bytes else "?",
            size(width) if width else "?",
            _keys(table, bare, redundant),
        )
    out.print(listed)
    out.print(
        Text(
            "Rows and widths come from the server's statistics, or are counted if it has none.",
            style="dim",
        )
    )


def _keys(
    table: Table, bare: Set[tuple[str, tuple[str, ...]]], redundant: Mapping[tuple[str, str], str]
) -> Text:
    lines: list[tuple[str, str]] = (
        [("key " + ", ".join(table.primary_key), "")] if table.primary_key else []
    )
    for index in table.indexes:
        kind = "unique " if index.unique else ""
        tail = f" where {index.where}" if index.where else ""
        said = f"{kind}index {', '.join(index.columns)}{tail}"
        by = redundant.get((table.name, index.name))
        lines.append(
            (said + (f": redundant, {by} starts with it" if by else ""), "yellow" if by else "")
        )
    for key in table.foreign_keys:
        said = f"{', '.join(key.columns)} → {key.table}"
        lacks = (table.name, key.columns) in bare
        lines.append((said + (": no index" if lacks else ""), "yellow" if lacks else "dim"))
    text = Text()
    for place, (said, style) in enumerate(lines):
        text.append(("\n" if place else "") + safe(said), style=style)
    return text
