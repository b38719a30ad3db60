"""`askless capture app` records a Python program; `askless capture check` tells whether a capture is whole."""

from __future__ import annotations

import argparse
import json
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from statistics import median
from typing import Any

from askless.capture.reading import FileReport, Reader, files_of
from askless.cli.common import add_capture, add_json, command, notes_of, print_document
from askless.core.errors import AskLessError
from askless.core.words import plural, size
from askless.output import documents, terminal
from askless.output.text import milliseconds, safe
from askless.project import accepted
from askless.sources import python_program

APP_EXAMPLES = """  askless capture app -o calls -- python app.py                 until you press Ctrl-C
  askless capture app -o due --visit http://127.0.0.1:8000/calls/due --times 10 -- python app.py
  askless capture app --echo -- python -i shell.py              shows under each line what it asked"""
CHECK_EXAMPLES = "  askless capture check calls"


def add(commands: Any, name: str) -> None:
    """Declare the command and its two kinds."""
    parser = command(commands, name, "record what a program asks its database, or check a capture", APP_EXAMPLES)
    kinds = parser.add_subparsers(title="kinds", metavar="KIND", required=True)
    app = command(kinds, "app", "run a Python program, unchanged, and record what it asks", APP_EXAMPLES)
    app.add_argument(
        "-o", "--out", metavar="DIR", type=Path, help="folder of the capture (default: a new askless-DATE-TIME)"
    )
    app.add_argument(
        "--visit",
        metavar="URL",
        action="append",
        default=[],
        help="wait until it answers, request it, then stop the program; may be repeated",
    )
    app.add_argument(
        "--times", metavar="N", type=int, default=5, help="visits of each URL after one to warm up (default: 5)"
    )
    app.add_argument(
        "--wait",
        metavar="SECONDS",
        type=float,
        default=30.0,
        help="how long the first URL may take to answer (default: 30)",
    )
    app.add_argument(
        "--echo", action="store_true", help="print each statement on stderr as it ends, with its time and rows"
    )
    app.add_argument(
        "--track-use",
        action="store_true",
        help="note which loaded objects and columns the application reads (SQLAlchemy, Django); costs time for each object",
    )
    app.add_argument(
        "--strict",
        metavar="N",
        nargs="?",
        type=int,
        const=3,
        help="raise in the program where one relation is loaded lazily N times from one line (default: 3)",
    )
    app.add_argument("--strict-route", metavar="TEXT", action="append", default=[], help="strict on these routes only")
    app.add_argument(
        "program", metavar="-- PROGRAM ...", nargs=argparse.REMAINDER, help="the program and its arguments"
    )
    app.set_defaults(run=run_app)
    check = command(kinds, "check", "tell what a capture holds and whether it is whole", CHECK_EXAMPLES)
    add_capture(check)
    add_json(check)
    check.set_defaults(run=run_check)


def run_app(options: argparse.Namespace) -> int:
    """Record a program; its own exit code, or 0 where it was told to stop."""
    program = options.program[1:] if options.program[:1] == ["--"] else options.program
    if not program:
        raise AskLessError(
            "no-program", "there is no program to run", "name it behind --, as in: askless capture app -- python app.py"
        )
    if options.times < 1:
        raise AskLessError("bad-times", "--times takes a whole number from 1", "leave it out for 5 visits")
    visits = python_program.Visits(tuple(options.visit), options.times, options.wait) if options.visit else None
    for url in options.visit:
        if not url.startswith(("http://", "https://")):
            raise AskLessError(
                "bad-url", f"--visit takes an http URL, not {url!r}", "write it like http://127.0.0.1:8000/calls/due"
            )
    strict = strict_settings(options.strict, options.strict_route)
    recording = python_program.Recording(_echo(options.echo), options.track_use, strict)
    return record(program, options.out, visits, recording)


def _echo(wanted: bool) -> str:
    return "" if not wanted else "colour" if terminal.console(stderr=True).is_terminal else "plain"


def strict_settings(least: int | None, routes: Sequence[str]) -> str:
    """What strict mode is told, as JSON: when to raise, on which routes, and which known cases are accepted."""
    if least is None:
        return ""
    if least < 2:
        raise AskLessError(
            "bad-strict", "--strict takes a whole number from 2", "leave the number out to raise at the third load"
        )
    known = accepted.for_strict(accepted.read(Path(accepted.FILE)))
    return json.dumps({"least": least, "routes": list(routes), "accepted": known})


def record(
    program: Sequence[str],
    out: Path | None,
    visits: python_program.Visits | None,
    recording: python_program.Recording,
) -> int:
    """Run the program, then say what was recorded, where, and what to do next."""
    named = out or Path(time.strftime("askless-%Y%m%d-%H%M%S"))
    folder = python_program.prepare_folder(named)
    try:
        outcome = python_program.run(program, folder, visits, recording, terminal.progress)
    except AskLessError:
        terminal.progress_done()
        _told(named, folder)
        raise
    terminal.progress_done()
    _tell_visits(outcome.visited)
    if outcome.exit_code and not outcome.stopped:
        terminal.note(f"the program ended with exit code {outcome.exit_code}")
    recorded = _told(named, folder)
    if outcome.stopped:
        return 0
    return outcome.exit_code if recorded or outcome.exit_code else 2


def _tell_visits(visited: Sequence[python_program.Visited]) -> None:
    """What each page answered, and how long it took."""
    for page in visited:
        spread = f"{milliseconds(min(page.durations_ms))} to {milliseconds(max(page.durations_ms))}"
        terminal.note(
            f"{page.url}: status {page.status}, {plural(len(page.durations_ms), 'visit')}, "
            f"median {milliseconds(median(page.durations_ms))} ms ({spread})"
        )
        if page.status >= 400:
            terminal.note(
                f"note: {page.url} answered with status {page.status}: the page that you meant may not have run"
            )


def _told(named: Path, folder: Path) -> bool:
    """Say in one line what was recorded; False where nothing was."""
    try:
        reports = [_read(path) for path in files_of(folder)]
    except AskLessError:
        sys.stderr.write(
            f"askless: nothing was recorded in {safe(str(named))}\n"
            "  the program asked no database that is recorded, or its interpreter takes no PYTHONPATH (-I, -E, -S)\n"
        )
        return False
    terminal.warn_notes(notes_of(reports))
    queries, requests = sum(r.queries for r in reports), sum(r.requests for r in reports)
    written = sum(r.path.stat().st_size for r in reports)
    files = f" in {len(reports)} processes" if len(reports) > 1 else ""
    terminal.note(
        f"Recorded {plural(queries, 'query')} of {plural(requests, 'request')}{files} in {named} ({size(written)}). "
        f"Next: askless findings {named}"
    )
    return True


def _read(path: Path) -> FileReport:
    reader = Reader(path)
    for _ in reader:
        pass
    return reader.report


def run_check(options: argparse.Namespace) -> int:
    """Check every file of a capture; exit code 1 where one is damaged."""
    path: Path = options.capture
    reports = [_read(file) for file in files_of(path)]
    document = documents.CheckDocument(
        format="askless check",
        capture=str(path),
        files=tuple(_file(report) for report in reports),
        sound=not any(report.bad_lines for report in reports),
    )
    if options.json:
        print_document(document)
    else:
        terminal.check(document)
    return 0 if document.sound else 1


def _file(report: FileReport) -> documents.FileCheck:
    header = report.header
    assert header is not None
    return documents.FileCheck(
        file=str(report.path),
        version=header.version,
        recorder=header.recorder,
        program=header.program,
        lines=report.lines,
        requests=report.requests,
        open_requests=report.open_requests,
        queries=report.queries,
        torn=report.torn,
        closed=report.closed,
        bad_lines=tuple(report.bad_lines),
        notes=tuple(report.notes),
    )
