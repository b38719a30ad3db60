"""Documents as comma-separated values: one line a finding, a limit, or a route."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Sequence
from typing import Any

from askless.output.formats import View
from askless.output.text import one_line, short_path
from askless.reports import documents
from askless.reports.columns import FindingRecord, finding_record
from askless.reports.documents import Document, name_of

_FORMULA = ("=", "+", "-", "@")  # with which a spreadsheet takes a text for something to work out
Rows = tuple[Sequence[str], list[list[object]]]


def findings(document: documents.FindingsDocument) -> Rows:
    """A line a finding, in the order of the list, with the columns of `columns.FindingRecord`."""
    rows = [finding_record(one, one.key in document.accepted) for one in document.findings]
    names = FindingRecord.__struct_fields__
    return names, [
        [
            short_path(row.file) if name == "file" and row.file else getattr(row, name)
            for name in names
        ]
        for row in rows
    ]


def gate(document: documents.GateDocument) -> Rows:
    """A line a limit; `findings` are names."""
    head = ["outcome", "route", "measure", "source", "limit", "seen", "findings"]
    rows: list[list[object]] = [
        [
            "over" if one.over else "ok",
            one.route,
            one.measure,
            one.source,
            one.limit,
            one.actual,
            " ".join(one.findings),
        ]
        for one in document.rows
    ]
    rows += [["no requests", route, "", "", "", "", ""] for route in document.missing_routes]
    return head, rows


def compare(document: documents.CompareDocument) -> Rows:
    """A line a route, its numbers before and after."""
    counts = ("queries", "rows", "bytes", "objects", "memory_bytes")
    head = ["route", *(f"{name}_{side}" for name in counts for side in ("before", "after"))]
    head += ["median_ms_before", "median_ms_after", "ratio", "ratio_low", "ratio_high", "outcome"]
    rows: list[list[object]] = []
    for one in document.routes:
        pairs = [value for name in counts for value in getattr(one, name)]
        ratio = (one.ratio.value, one.ratio.low, one.ratio.high) if one.ratio else ("", "", "")
        medians = [spread.median_ms if spread is not None else None for spread in one.time]
        rows.append([one.route, *pairs, *medians, *ratio, str(one.verdict.outcome)])
    return head, rows


_TABLES: dict[str, Callable[[Any], Rows]] = {"findings": findings, "gate": gate, "compare": compare}


def _kept(value: object) -> object:
    """A value that stays what it is in a spreadsheet, on one line."""
    if not isinstance(value, str):
        return "" if value is None else value
    flat = one_line(value)
    return "'" + flat if flat.startswith(_FORMULA) else flat


class Csv:
    """See the module."""

    def check(self) -> None:
        """Nothing more is needed."""

    def render(self, document: Document, view: View) -> bytes:
        """The document with a line of names first, by RFC 4180."""
        head, rows = _TABLES[name_of(document)](document)
        stream = io.StringIO()
        writer = csv.writer(stream)
        writer.writerow(head)
        writer.writerows([_kept(value) for value in row] for row in rows)
        return stream.getvalue().encode("utf-8", "replace")


FORMATS = {"csv": Csv()}
