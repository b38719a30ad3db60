"""`askless findings`: findings and advice, on which line, why, and what to do."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from askless.cli.common import (
    add_allow_damaged,
    add_capture,
    add_database,
    add_format,
    add_schema,
    add_spread,
    milliseconds_of,
    show,
)
from askless.cli.follow import add_follow, follow
from askless.core import patterns
from askless.core.findings.severities import SEVERITIES

if TYPE_CHECKING:
    from askless.reports import documents

EXAMPLES = """  askless findings calls                                 the edits to make, and the findings each one fixes
  askless findings calls --show 1                        one finding in full: the first in that list
  askless findings calls --each                          a paragraph for each finding
  askless findings calls --network-latency 0.5ms              as if the database were that far away
  askless findings calls --route /calls/due --pattern n-plus-one
  askless findings calls --db sqlite:///harbour.db       with keys and table sizes from the schema
  askless findings calls --patch edits.patch             the edits that are calls, as a patch for git apply
  askless findings calls --follow                        again whenever the capture grows
  askless findings calls --fail-on worthwhile              exit with 1 if a finding is at least that severe"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    add_capture(parser)
    parser.add_argument(
        "--route", metavar="TEXT", default="", help="only routes that contain this text"
    )
    parser.add_argument(
        "--pattern",
        metavar="NAME",
        action="append",
        default=[],
        help="only this pattern (" + ", ".join(patterns.REGISTRY) + ")",
    )
    parser.add_argument(
        "--show", metavar="FINDING", help="show one finding in full, by name or list number"
    )
    parser.add_argument(
        "--fail-on",
        metavar="SEVERITY",
        choices=SEVERITIES,
        help="exit with 1 if a finding is at least this severe: " + ", ".join(SEVERITIES),
    )
    add_allow_damaged(parser)
    parser.add_argument(
        "--accepted", action="store_true", help="include findings accepted in askless.toml"
    )
    parser.add_argument(
        "--each", action="store_true", help="show a paragraph per finding instead of one per edit"
    )
    parser.add_argument("--all", action="store_true", help="list all edits, including minor ones")
    parser.add_argument(
        "--network-latency",
        metavar="TIME",
        default="",
        help="network latency to add per query, e.g. 0.5ms",
    )
    parser.add_argument(
        "--values", action="store_true", help="show literals in statements; they may be private"
    )
    parser.add_argument(
        "--patch",
        metavar="FILE",
        nargs="?",
        const="-",
        help="print the edits as a patch for git apply, or write it into a file",
    )
    add_database(parser)
    add_schema(parser)
    add_format(parser, "findings")
    add_spread(parser)
    add_follow(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Print findings."""
    if options.follow:
        return _follow(options)
    from askless.api.captures import read
    from askless.project import last_list
    from askless.reports import findings
    from askless.reports.loading import refuse_damage

    document = (
        read(options.capture, values=options.values)
        .findings(
            route=options.route,
            patterns=options.pattern,
            with_accepted=options.accepted or options.show is not None,
            db=options.db,
            schema=options.schema,
            network_latency_ms=milliseconds_of(options.network_latency),
        )
        .document
    )
    if options.fail_on is not None and not options.allow_damaged:
        refuse_damage(document.damage)
    if options.patch is not None:
        return _patch(document, options)
    variant = "each" if options.each else "all" if options.all else ""
    if options.show is not None:
        variant, document = "story", _only(document, options)
    elif options.format == "terminal":
        keys = [finding.key for finding in document.findings]
        last_list.remember(options.capture, "finding", keys)
    show(document, variant=variant, form=options.format)
    return int(options.fail_on is not None and findings.judge(document, options.fail_on))


def _patch(document: documents.FindingsDocument, options: argparse.Namespace) -> int:
    """Print the patch of the edits, or write it and print what became of each edit."""
    import sys
    from pathlib import Path

    from askless.output import delivery, notices
    from askless.patches.document import document_of
    from askless.patches.making import make
    from askless.project.project_root import root

    folder = root()
    patch = make(document.edits, folder)
    result = document_of(document, patch, folder)
    if options.patch != "-":
        delivery.bytes_to_file(patch.diff, Path(options.patch))
    if options.format == "json" or options.patch != "-":
        show(result, form=options.format)
        return 0
    notices.notes(document.notes)
    sys.stdout.buffer.write(patch.diff)
    sys.stdout.flush()
    done = sum(edit.patched for edit in result.edits)
    notices.note(f"{done} of {len(result.edits)} edits are in the patch")
    reasons: dict[str, list[str]] = {}
    for edit in result.edits:
        if not edit.patched:
            reasons.setdefault(edit.reason, []).append(edit.findings[0])
    for reason, names in reasons.items():
        notices.note(f"not in it, as {reason}: {', '.join(names)}")
    return 0


def _only(
    document: documents.FindingsDocument, options: argparse.Namespace
) -> documents.FindingsDocument:
    """The one finding that `--show` names, by its name or its place in the list shown last."""
    from askless.reports import findings, name_lookup

    filtered = bool(options.route or options.pattern or options.accepted)
    hidden = () if options.accepted else document.accepted
    listed = [finding.key for finding in document.findings if finding.key not in hidden]
    key = name_lookup.finding_name(options.capture, options.show, listed, shown=not filtered)
    return findings.only(document, key)


def _follow(options: argparse.Namespace) -> int:
    """Print findings, and again whenever there are more. Raises AskLessError: not-together."""
    from pathlib import Path

    from askless.core.errors import AskLessError
    from askless.reports.findings import Choice
    from askless.reports.growing_capture import GrowingCapture
    from askless.reports.loading import schema_of

    if options.show is not None or options.fail_on is not None:
        raise AskLessError(
            "not-together",
            "--follow can't be combined with --show or --fail-on",
            "remove one of them",
        )
    schema = schema_of(options.db, Path(options.schema) if options.schema is not None else None)
    growing = GrowingCapture(
        options.capture, True, options.values, milliseconds_of(options.network_latency), schema
    )
    choice = Choice(options.route, tuple(options.pattern), options.accepted)
    variant = "each" if options.each else "all" if options.all else ""
    return follow(growing, lambda: growing.findings(choice), options.format, variant)
