"""How large an index will be, from a table's statistics and the server's way to store entries."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence

from askless.core.records.schema import Schema, Table, TableColumn
from askless.core.systems import Layout, system_of

_VARIES = re.compile(r"CHAR|TEXT|CLOB|BLOB|BINARY|STRING", re.I)
_WHOLE = re.compile(r"INT|BOOL", re.I)
# SQLite: the most decimal digits of numbers that a record stores in so many bytes
_DIGITS = ((2.2, 1), (4.5, 2), (6.9, 3), (9.3, 4), (14.1, 6))
HASH_ENTRY_BYTES, HASH_FILL = 20.0, 0.75


def size_bytes(table: Table, columns: Sequence[str], schema: Schema, kind: str = "") -> int:
    """About how many bytes an index of these columns takes once it is built."""
    layout = system_of(schema.system).layout
    rows = float(table.rows or 0)
    if kind == "hash":
        return _in_pages(rows * HASH_ENTRY_BYTES / HASH_FILL, layout)
    stored = [column for column in map(table.column, columns) if column is not None]
    key = _padded(stored, layout)
    key += layout.null_bytes * any(column.nullable for column in stored)
    if layout.posting_bytes:
        return _in_pages(_with_postings(table, stored, key, layout), layout)
    return _in_pages(rows * (key + layout.entry_bytes + _locator(table, stored, layout)), layout)


def _in_pages(all_bytes: float, layout: Layout) -> int:
    """Entries in the pages of the lowest level, and the levels above them, which are few."""
    leaves = math.ceil(all_bytes / layout.usable_bytes)
    pages = max(leaves + math.ceil(leaves / 200), 1)
    single, extent = layout.extents
    if extent and pages > single:  # an eighth of what is reserved stays free
        reserved = leaves * 8 / 7 - single
        pages += single - leaves + max(math.ceil(reserved / extent), 1) * extent
    return pages * layout.page_bytes


def _padded(stored: Sequence[TableColumn], layout: Layout) -> float:
    """The bytes of an entry's values. Those of different length are padded by half the alignment on
    average.
    """
    width, unit = sum(_width(column, layout) for column in stored), layout.aligned_bytes
    if any(_VARIES.search(column.type) for column in stored):
        return width + (unit - 1) / 2
    return math.ceil(width / unit) * unit if unit > 1 else width


def _width(column: TableColumn, layout: Layout) -> float:
    """Mean bytes of a column in an entry."""
    name = column.type.upper()
    fixed = next((width for begin, width in layout.widths if name.startswith(begin)), None)
    if fixed is not None:
        return fixed + layout.column_bytes
    measured = column.width_bytes if column.width_bytes is not None else 8.0
    if layout.integers_by_value and _WHOLE.search(name):
        return _by_value(measured) + layout.column_bytes
    counted = layout.length_bytes if _VARIES.search(name) else 0.0
    return measured + counted + layout.column_bytes


def _by_value(digits: float) -> float:
    return next((width for most, width in _DIGITS if digits <= most), 8)


def _locator(table: Table, stored: Sequence[TableColumn], layout: Layout) -> float:
    """What leads from an entry to its row: the columns of the primary key that are not in it."""
    if layout.locator_bytes:
        return layout.locator_bytes
    named = {column.name for column in stored}
    key = [column for column in map(table.column, table.primary_key) if column is not None]
    if layout.integers_by_value and not (len(key) == 1 and _WHOLE.search(key[0].type)):
        return _by_value(math.log10(max(table.rows or 1, 1)))  # SQLite's own row number
    missing = [column for column in key if column.name not in named or layout.integers_by_value]
    return sum(_width(column, layout) - layout.column_bytes for column in missing)


def _with_postings(
    table: Table, stored: Sequence[TableColumn], key_bytes: float, layout: Layout
) -> float:
    """Bytes of an index in which equal values are written once for many rows."""
    rows = float(table.rows or 0)
    each = rows / _distinct(stored, rows)
    entry = key_bytes + layout.entry_bytes
    if each < 1.5:
        return rows * entry
    together = max((layout.posting_bytes - key_bytes) // layout.locator_bytes, 1.0)
    return rows / each * math.ceil(each / together) * entry + rows * layout.locator_bytes


def _distinct(stored: Sequence[TableColumn], rows: float) -> float:
    """About how many values some columns have together, if they do not depend on each other."""
    counts = [max(column.distinct or rows, 1.0) for column in stored]
    if len(counts) == 1 or max(counts) > 0.9 * rows:
        return max(min(max(counts), rows), 1.0)
    pairs = math.prod(counts)
    # of the pairs that there could be, those that so many rows have
    return max(min(pairs * (1 - math.exp(-rows / pairs)), rows), 1.0)
