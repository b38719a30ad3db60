"""`askless export`: a capture for other programs' questions."""

from __future__ import annotations

import argparse

from askless.cli.common import add_capture, file
from askless.core.errors import AskLessError

EXAMPLES = """  askless export calls --parquet calls-columns      requests, queries, shapes and call sites, one file each
  askless export calls --otlp spans.jsonl           as spans of OpenTelemetry, findings as their events
  askless export calls --otlp http://127.0.0.1:4318   to a tracing backend"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    add_capture(parser)
    parser.add_argument(
        "--parquet",
        metavar="DIR",
        type=file,
        help="write requests, queries, shapes and call sites as Parquet files into DIR",
    )
    parser.add_argument(
        "--otlp",
        metavar="TARGET",
        help="write OpenTelemetry spans to a file (JSON lines) or an OTLP/HTTP endpoint (URL)",
    )
    parser.add_argument(
        "--values",
        action="store_true",
        help="include parameters, literals and paths; they may be private",
    )
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Write, and say how much."""
    from askless.api.captures import read
    from askless.output import notices

    if options.parquet is None and options.otlp is None:
        raise AskLessError(
            "no-target",
            "an export needs a target",
            f"askless export {options.capture} --parquet DIR",
        )
    capture = read(options.capture, values=options.values)
    if options.otlp is not None:
        count = capture.to_otlp(options.otlp, notices.progress)
        notices.progress_done()
        notices.note(f"wrote {count:,} requests as spans to {options.otlp}")
    if options.parquet is None:
        return 0
    counts = capture.to_parquet(options.parquet, notices.progress)
    notices.progress_done()
    text = ", ".join(f"{count:,} {name}" for name, count in counts.items())
    notices.note(f"wrote {text} into {options.parquet}")
    return 0
