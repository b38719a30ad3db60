"""`askless compare`: two captures of the same pages, before and after a change."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from askless.cli.common import add_json, command, load, print_document
from askless.core.analysis import findings_of
from askless.core.comparison import RouteComparison, compare_findings, compare_routes, drift_of
from askless.core.summary import Summary
from askless.output import documents, terminal

EXAMPLES = """  askless compare before after
  askless compare before after --judge        exit code 1 if there are new findings"""


def add(commands: Any, name: str) -> None:
    """Declare the command."""
    parser = command(commands, name, "compare two captures: queries, rows, bytes, time, findings", EXAMPLES)
    parser.add_argument("before", metavar="BEFORE", type=Path, help="the capture before the change")
    parser.add_argument("after", metavar="AFTER", type=Path, help="the capture after it")
    parser.add_argument("--judge", action="store_true", help="exit with 1 if there are new findings")
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Compare and print."""
    document = compared(options.before, options.after)
    print_document(document) if options.json else terminal.compare(document)
    return int(bool(options.judge and document.new))


def compared(before_path: Path, after_path: Path) -> documents.CompareDocument:
    """Both captures side by side."""
    before, after = load(before_path)[0], load(after_path)[0]
    changes = compare_findings(findings_of(before), findings_of(after), _routes(before), _routes(after))
    rows = compare_routes(before, after)
    return documents.CompareDocument(
        format="askless compare",
        before=str(before_path),
        after=str(after_path),
        routes=tuple(_row(row) for row in rows),
        drift=drift_of(rows),
        gone=changes.gone,
        new=changes.new,
        left=changes.left,
    )


def _routes(summary: Summary) -> set[str]:
    return {name for name, route in summary.routes.items() if route.requests}


def _row(row: RouteComparison) -> documents.CompareRow:
    sides = (row.before, row.after)
    spreads = tuple(
        documents.Spread(quartiles[1], quartiles[0], quartiles[2], quartiles[3]) if quartiles else None
        for quartiles in (row.quartiles_before, row.quartiles_after)
    )
    return documents.CompareRow(
        route=row.route,
        queries=tuple(side.queries if side else None for side in sides),  # type: ignore[arg-type]
        rows=tuple(side.rows if side else None for side in sides),  # type: ignore[arg-type]
        bytes=tuple(side.bytes if side else None for side in sides),  # type: ignore[arg-type]
        time=spreads,  # type: ignore[arg-type]
        ratio=(row.ratio.value, row.ratio.low, row.ratio.high) if row.ratio else None,
        verdict=row.verdict,
    )
