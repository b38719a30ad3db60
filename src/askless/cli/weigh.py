"""`askless weigh`: which part of a statement costs what, by leaving out one part after the other."""

from __future__ import annotations

import argparse
from pathlib import Path
from statistics import median
from typing import Any

from askless.cli.common import add_database, add_json, add_limits, command, limits_of, load, print_document
from askless.cli.stopping import stoppable
from askless.cli.subjects import Subject, costliest, parse_parameters
from askless.core.errors import AskLessError
from askless.core.sql.masking import masker
from askless.database.connecting import parse_url
from askless.database.weighing import Weighing, Weight, weigh
from askless.output import documents, terminal, terminal_trials

EXAMPLES = """  askless weigh --db URL --sql "SELECT ... FROM port_call c JOIN vessel v ON ... WHERE ... ORDER BY ..."
  askless weigh calls --db URL --shape 3f2a                   a shape of a capture, with its values"""


def add(commands: Any, name: str) -> None:
    """Declare the command."""
    parser = command(
        commands,
        name,
        "tell which part of a statement costs what: it runs without each join, condition, sort in turn",
        EXAMPLES,
    )
    parser.add_argument(
        "capture", metavar="CAPTURE", type=Path, nargs="?", help="a capture: a file, or a folder of files"
    )
    parser.add_argument("--sql", metavar="STATEMENT", help="one SELECT instead of a capture")
    parser.add_argument(
        "--parameters", metavar="JSON", default="", help="values of its placeholders: a list, or an object by name"
    )
    parser.add_argument(
        "--shape", metavar="HASH", default="", help="the shape of the capture to weigh (default: the costliest)"
    )
    parser.add_argument(
        "--values", action="store_true", help="show literals of a capture's statement; they may be private"
    )
    add_database(parser, required=True)
    add_limits(parser, trial=True)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Weigh and print."""
    url = parse_url(options.db)
    subject = _subject(options)
    with stoppable():
        found = weigh(
            url, subject.text, subject.parameters, subject.names, limits_of(options), terminal.progress, subject.system
        )
    shown = masker(subject.system or found.system, options.capture is None or options.values)
    whole = median(found.times_ms)
    document = documents.WeighDocument(
        format="askless weigh",
        system=found.system,
        sql=shown(found.sql),
        whole_ms=whole,
        rows=found.rows,
        bytes=found.bytes,
        repetitions=len(found.times_ms),
        parts=tuple(
            documents.WeighedPart(
                kind=weight.part.kind,
                part=shown(weight.part.text),
                with_it=weight.part.with_it,
                without_ms=median(weight.times_ms) if weight.times_ms else None,
                costs_ms=whole - median(weight.times_ms) if weight.times_ms else None,
                ratio=documents.measurement(weight.ratio),
                rows=weight.rows,
                bytes=weight.bytes,
                verdict=verdict(weight, found),
                error=weight.error,
            )
            for weight in found.parts
        ),
    )
    print_document(document) if options.json else terminal_trials.weigh(document)
    return 0


def _subject(options: argparse.Namespace) -> Subject:
    if (options.capture is None) == (options.sql is None):
        raise AskLessError("what-to-weigh", "name a capture or give --sql, one of the two", "see: askless weigh --help")
    if options.sql is not None:
        return Subject(options.sql, *parse_parameters(options.parameters))
    summary, _ = load(options.capture)
    found = costliest(summary, None, options.shape)
    if not found:
        raise AskLessError(
            "no-shape",
            f"{options.capture} holds no statement of shape {options.shape or '(any)'}",
            "askless plan CAPTURE --db URL lists them",
        )
    return found[0]


def verdict(weight: Weight, whole: Weighing) -> str:
    """What leaving the part out did, in words."""
    ratio = weight.ratio
    if ratio is None:
        return "can't run without it"
    more = f", and gives {weight.rows:,} rows instead of {whole.rows:,}" if weight.rows != whole.rows else ""
    if len(weight.times_ms) == 1 and len(whole.times_ms) > 1:
        more += " (run once: it takes long)"
    if not ratio.certain:
        return "costs nothing that can be seen" + more
    if ratio.value > 1:
        return f"costs {1 - 1 / ratio.value:.0%} of the time".replace("%", " %") + more
    return f"saves time: ×{1 / ratio.value:.1f} without it" + more
