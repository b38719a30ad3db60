"""Documents as comma-separated values: one line a finding, a limit, or a route."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Sequence
from typing import Any

from askless.core.findings import Finding
from askless.output.formats import View
from askless.output.text import one_line, short_path
from askless.reports import documents
from askless.reports.documents import Document, name_of

_FORMULA = ("=", "+", "-", "@")  # with which a spreadsheet takes a text for something to work out
_FINDING = (
    "key", "severity", "pattern", "variant", "route", "evidence", "title", "file", "line", "function", "requests", "queries",
    "avoidable", "query_ms", "saving_ms", "share", "total_ms", "rows", "bytes", "shape", "sql", "advice", "code",
)  # fmt: skip
Rows = tuple[Sequence[str], list[list[object]]]


def _finding(finding: Finding) -> list[object]:
    line = finding.lines[0] if finding.lines else None
    advice = finding.advice[0] if finding.advice else None
    cost = finding.cost
    return [
        finding.key, finding.severity, finding.pattern, finding.variant, finding.route, finding.evidence, finding.title,
        short_path(line.file) if line else "", line.line or "" if line else "", line.function if line else "", finding.requests,
        cost.queries, cost.avoidable, cost.query_ms, cost.saving_ms, cost.share, cost.total_ms, cost.rows, cost.bytes,
        finding.shape, finding.sql, advice.title if advice else "", advice.code if advice else "",
    ]  # fmt: skip


def findings(document: documents.FindingsDocument) -> Rows:
    """A line a finding, in the order of the list; numbers are a request's, but `total_ms`, the capture's."""
    rows = [[*_finding(one), "yes" if one.key in document.accepted else ""] for one in document.findings]
    return [*_FINDING, "accepted"], rows


def gate(document: documents.GateDocument) -> Rows:
    """A line a limit; `findings` are names."""
    head = ["outcome", "route", "measure", "source", "limit", "seen", "findings"]
    rows: list[list[object]] = [
        ["over" if one.over else "ok", one.route, one.measure, one.source, one.limit, one.seen, " ".join(one.findings)]
        for one in document.rows
    ]
    rows += [["not asked", route, "", "", "", "", ""] for route in document.not_asked]
    return head, rows


def compare(document: documents.CompareDocument) -> Rows:
    """A line a route, its numbers before and after."""
    counts = ("queries", "rows", "bytes", "objects", "memory_bytes")
    head = ["route", *(f"{name}_{side}" for name in counts for side in ("before", "after"))]
    head += ["median_ms_before", "median_ms_after", "ratio", "ratio_low", "ratio_high", "outcome"]
    rows: list[list[object]] = []
    for one in document.routes:
        pairs = [value for name in counts for value in getattr(one, name)]
        medians = [spread.median if spread is not None else None for spread in one.time]
        rows.append([one.route, *pairs, *medians, *(one.ratio or ("", "", "")), str(one.verdict.outcome)])
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

    documents = frozenset(_TABLES)

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
