"""`askless findings`: what asks too much, on which line, why, and what to do."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from askless.cli.common import (
    add_capture,
    add_database,
    add_json,
    add_schema,
    command,
    load,
    notes_of,
    one_finding,
    print_document,
    schema_of,
)
from askless.core import patterns
from askless.core.analysis import findings_of
from askless.core.errors import AskLessError
from askless.core.findings import SEVERITIES, Finding
from askless.core.settings import Settings
from askless.output import documents, terminal

EXAMPLES = """  askless findings calls                                 ranked, one paragraph each
  askless findings calls --show 1                        the whole story of the first
  askless findings calls --route /calls/due --pattern n-plus-one
  askless findings calls --db sqlite:///harbour.db       with keys and table sizes from the schema
  askless findings calls --judge worthwhile              exit code 1 if there is one of that weight or more"""


def add(commands: Any, name: str) -> None:
    """Declare the command."""
    parser = command(commands, name, "show what asks too much, where, why, and what to do", EXAMPLES)
    add_capture(parser)
    parser.add_argument("--route", metavar="TEXT", default="", help="only routes that contain this text")
    parser.add_argument(
        "--pattern",
        metavar="NAME",
        action="append",
        default=[],
        help="only this pattern (" + ", ".join(patterns.REGISTRY) + ")",
    )
    parser.add_argument("--show", metavar="N", help="the full story of finding N (its place in the list, or its key)")
    parser.add_argument(
        "--judge",
        metavar="SEVERITY",
        choices=SEVERITIES,
        help="exit with 1 if a finding is at least this severe: " + ", ".join(SEVERITIES),
    )
    parser.add_argument("--values", action="store_true", help="show literals of statements; they may be private")
    add_database(parser)
    add_schema(parser)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Print findings."""
    path: Path = options.capture
    for name in options.pattern:
        if name not in patterns.REGISTRY:
            raise AskLessError("no-pattern", f"there is no pattern {name!r}", patterns.instead_of(name))
    schema = schema_of(options)
    summary, reports = load(path, Settings(show_values=options.values))
    everything = findings_of(summary, schema)
    kept = [f for f in everything if options.route in f.route and (not options.pattern or f.pattern in options.pattern)]
    if options.show is not None:
        place, finding = one_finding(kept, options.show)
        if not options.json:
            terminal.story(finding, place)
            return _judged([finding], options.judge)
        kept = [finding]
    document = documents.FindingsDocument(
        format="askless findings",
        capture=str(path),
        findings=tuple(kept),
        requests=sum(route.requests for route in summary.routes.values()),
        queries=sum(stats.count for route in summary.routes.values() for stats in route.asked()),
        hidden=len(everything) - len(kept),
        notes=tuple(notes_of(reports)),
    )
    print_document(document) if options.json else terminal.findings(document)
    return _judged(kept, options.judge)


def _judged(found: list[Finding], least: str | None) -> int:
    if least is None:
        return 0
    return int(any(SEVERITIES.index(finding.severity) <= SEVERITIES.index(least) for finding in found))
