"""What the terminal shows of a database's tables."""

from __future__ import annotations

from collections.abc import Mapping, Set

from rich.text import Text

from askless.core.model import Table
from askless.core.words import size
from askless.output import documents
from askless.output.terminal import console, table_of
from askless.output.text import safe


def tables(
    document: documents.TablesDocument, bare: Set[tuple[str, tuple[str, ...]]], redundant: Mapping[tuple[str, str], str]
) -> None:
    """Tables with sizes, keys and indexes. `bare` foreign keys have no index, `redundant` indexes have a longer twin."""
    out = console()
    listed = table_of(("table", "l"), ("rows", "r"), ("size", "r"), ("a row", "r"), ("keys and indexes", "l"))
    for table in document.tables:
        rows = f"{table.rows:,}" if table.rows is not None else "?"
        width = sum(column.width_bytes or 0.0 for column in table.columns)
        listed.add_row(
            Text(safe(table.name), style="bold"), rows, size(table.bytes) if table.bytes else "?",
            size(width) if width else "?", _keys(table, bare, redundant),
        )  # fmt: skip
    out.print(listed)
    out.print(Text("Rows and widths are the server's own statistics, or counted where it keeps none.", style="dim"))


def _keys(table: Table, bare: Set[tuple[str, tuple[str, ...]]], redundant: Mapping[tuple[str, str], str]) -> Text:
    lines: list[tuple[str, str]] = [("key " + ", ".join(table.primary_key), "")] if table.primary_key else []
    for index in table.indexes:
        kind = "unique " if index.unique else ""
        tail = f" where {index.where}" if index.where else ""
        said = f"{kind}index {', '.join(index.columns)}{tail}"
        by = redundant.get((table.name, index.name))
        lines.append((said + (f": redundant, {by} begins with it" if by else ""), "yellow" if by else ""))
    for key in table.foreign_keys:
        said = f"{', '.join(key.columns)} → {key.table}"
        lacks = (table.name, key.columns) in bare
        lines.append((said + (": no index" if lacks else ""), "yellow" if lacks else "dim"))
    text = Text()
    for place, (said, style) in enumerate(lines):
        text.append(("\n" if place else "") + safe(said), style=style)
    return text
