"""`askless capture KIND` records from one of the sources; `askless capture check` says whether a
capture is whole.
"""

from __future__ import annotations

import argparse

from askless import sources
from askless.cli.common import add_capture, add_json, described, file, show
from askless.cli.live import watched
from askless.cli.renamed_options import add_renamed

TYPE_CHECKING = False
if TYPE_CHECKING:
    from pathlib import Path
    from typing import Any

    from askless.capture.reading import FileReport

# Modules of the standard library that nearly every program imports: not worth a word.
_EVERYWHERE = {
    "threading",
    "concurrent",
    "multiprocessing",
    "socket",
    "http",
    "wsgiref",
    "_pytest",
    "time",
    "asyncio",
    "smtplib",
    "subprocess",
}
FILES, PROGRAM = "files", "program"
EXAMPLES = """  askless capture app -o calls -- python app.py                 record until you press Ctrl-C
  askless capture relay -o calls --to postgresql://127.0.0.1:5432 -- node server.js
  askless capture check calls                                   is it complete?"""
CHECK_EXAMPLES = "  askless capture check calls"


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare a kind for each source, and the check."""
    kinds = parser.add_subparsers(title="kinds", metavar="KIND", required=True)
    for name in sources.REGISTRY:
        declare_source(kinds, sources.load(name))
    check = described(
        kinds, "check", "show what a capture contains and whether it is complete", CHECK_EXAMPLES
    )
    add_capture(check)
    add_json(check)
    check.set_defaults(run=run_check)
    for word, text in (
        ("pause", "pause recording: requests that start from now on are only counted"),
        ("resume", "resume recording after a pause"),
    ):
        kind = described(kinds, word, text, f"  askless capture {word} calls")
        kind.add_argument(
            "folder", metavar="DIR", type=file, help="folder of a capture that is being recorded"
        )
        kind.set_defaults(run=lambda options, word=word: run_control(options.folder, word))


def run_control(folder: Path, word: str) -> int:
    """Write the word into the control file that recorders of this folder look at."""
    from askless.capture.pause_control import tell as say
    from askless.output import notices

    say(folder, word)
    what = (
        "paused within a second of the next request"
        if word == "pause"
        else "resumed with the next requests"
    )
    notices.note(f"Recording into {folder} is {what}.")
    return 0


def takes_files_and_program(name: str) -> bool:
    """Whether a source takes both: words after `--` are then derived from files before they are
    parsed.
    """
    if name not in sources.REGISTRY:
        return False
    return {FILES, PROGRAM} <= {option.flag for option in sources.load(name).options}


def declare_source(kinds: Any, source: sources.Source) -> None:
    """A kind for a source: if the capture goes, and the source's own options."""
    kind = described(kinds, source.name, source.help, source.examples)
    kind.add_argument(
        "-o",
        "--out",
        metavar="DIR",
        type=file,
        help="folder of the capture (default: a new askless-DATE-TIME)",
    )
    kind.add_argument(
        "--live",
        action="store_true",
        help="show each request as it ends, and the findings so far (in a terminal)",
    )
    behind = {option.name for option in source.options if option.flag in (FILES, PROGRAM)}
    for option in source.options:
        # words after -- are derived from files when it runs
        if option.flag != PROGRAM or FILES not in behind:
            _declare_option(kind, option, few=PROGRAM in behind)
    add_renamed(kind, "capture")
    kind.set_defaults(run=lambda options: run_source(source, options))


def _declare_option(
    parser: argparse.ArgumentParser, option: sources.Option, few: bool = False
) -> None:
    """An option; of what belongs to none there may be `few` words, or no word at all."""
    more: dict[str, Any] = {"help": option.help}
    if not option.flag.startswith("-"):
        nargs = ("*" if few else "+") if option.many else argparse.REMAINDER
        parser.add_argument(option.flag, nargs=nargs, metavar=option.metavar, **more)
        return
    if option.bare is True:
        parser.add_argument(option.flag, action="store_true", **more)
        return
    more |= {"metavar": option.metavar, "type": option.read, "default": option.default}
    if option.many:
        more |= {"action": "append", "default": []}
    elif option.bare is not None:
        more |= {"nargs": "?", "const": option.bare}
    parser.add_argument(option.flag, **more)


def run_source(source: sources.Source, options: argparse.Namespace) -> int:
    """Record; the program's own exit code, or 0 if it was reported to stop."""
    values = {option.name: getattr(options, option.name, []) for option in source.options}
    if FILES in values and PROGRAM in values:
        values[PROGRAM] = options.behind
    for option in source.options:
        if not option.flag.startswith("-"):
            words = values[option.name]
            values[option.name] = words[1:] if words[:1] == ["--"] else words
    return record(source, values, options.out, options.live)


def record(
    source: sources.Source, values: dict[str, Any], out: Path | None, live: bool = False
) -> int:
    """Record into a folder, then say what was recorded, where, and what to do next."""
    import time

    from askless.core.errors import AskLessError
    from askless.output import notices
    from askless.sources.capture_folder import prepare_folder

    source.check(values)
    named = out or file(time.strftime("askless-%Y%m%d-%H%M%S"))
    folder = prepare_folder(named)
    voice = sources.Reporter(notices.note, _progress, notices.is_terminal())
    try:
        with watched(folder, live):
            recorded = source.run(values, folder, voice)
    except AskLessError:
        notices.progress_done()
        tell(named, folder, source.nothing)
        raise
    notices.progress_done()
    tell(named, folder, source.nothing)
    return recorded.exit_code or 0


def _progress(text: str) -> None:
    from askless.output import notices

    notices.progress(text) if text else notices.progress_done()


def tell(named: Path, folder: Path, nothing: str) -> None:
    """Say in one line what was recorded."""
    from askless.capture.reading import read
    from askless.core.errors import AskLessError
    from askless.core.formatting import plural, size
    from askless.core.records.model import BLENDED
    from askless.output import notices
    from askless.reports.loading import notes_of

    reports: list[FileReport] = []
    kinds: dict[str, int] = {}
    outside = taken_ns = 0
    try:
        # what `capture check` looks at besides would take as long again
        for request in read(folder, reports):
            taken_ns += (
                request.end_ns - request.start_ns if request.kind not in ("program", BLENDED) else 0
            )
            kinds[request.kind] = kinds.get(request.kind, 0) + 1
            outside += len(request) if request.kind in ("program", BLENDED) else 0
    except AskLessError:
        notices.note(f"askless: nothing was recorded in {named}")
        notices.note(f"  {nothing}")
        return
    notices.notes(notes_of(reports))
    queries = sum(report.queries for report in reports)
    written = sum(report.path.stat().st_size for report in reports)
    if queries or kinds:
        processes = {report.header.pid for report in reports if report.header is not None}
        files = f" in {len(processes)} processes" if len(processes) > 1 else ""
        notices.note(
            f"Recorded {plural(queries, 'query')} of "
            f"{plural(sum(kinds.values()), 'request')}{files} in {named} ({size(written)})."
        )
    else:
        notices.note(f"askless: nothing was recorded in {named}: {nothing}")
    for line in recording_lines(reports, kinds, outside, taken_ns):
        notices.note("  " + line)
    if queries:
        notices.note(f"Next: askless findings {named}")


def _requests_by_kind(kinds: dict[str, int], outside: int) -> list[str]:
    from askless.core.formatting import plural
    from askless.core.records.model import BLENDED

    named = {kind: count for kind, count in kinds.items() if kind not in ("program", BLENDED)}
    if named:
        most_first = sorted(named.items(), key=lambda item: -item[1])
        by_kind = ", ".join(f"{count} {kind}" for kind, count in most_first)
        beside = f"; {plural(outside, 'query')} outside of any" if outside else ""
        return [f"requests: {by_kind}{beside}"]
    if not kinds.get(BLENDED):
        return []
    return [
        "requests: none detected; all queries count as one: mark requests with "
        "askless.request, or use a supported server (docs/limits.md)"
    ]


def _modules(reports: list[FileReport]) -> list[str]:
    """What was watched, what was not, and which installed packages are the application's own."""
    modules = [report.modules for report in reports]
    watched = {name.split(".")[0] for one in modules for name in one.watched} - _EVERYWHERE
    unknown = dict.fromkeys(name for one in modules for name in one.unknown)
    code = dict.fromkeys(name for one in modules for name in one.code)
    lines = []
    if watched:
        lines.append(f"watched: {', '.join(sorted(watched))}")
    if unknown:
        lines.append(f"imported and not recorded: {', '.join(unknown)}")
    if code:
        lines.append(f"the application's code: {', '.join(code)}, as installed")
    return lines


def recording_lines(
    reports: list[FileReport], kinds: dict[str, int], outside: int, taken_ns: int
) -> list[str]:
    """What a recording consists of: requests by kind, queries outside of them, what was watched and
    what was not.

    `taken_ns` is the time of its requests.
    """
    from askless.output.text import percent

    lines = [*_requests_by_kind(kinds, outside), *_modules(reports)]
    spent_ms = sum(report.spent_ns for report in reports) / 1e6
    if spent_ms >= 1:
        share = f", {percent(spent_ms * 1e6 / taken_ns)} of the requests' time" if taken_ns else ""
        lines.append(f"time spent recording: about {spent_ms:.0f} ms{share}")
    return lines


def run_check(options: argparse.Namespace) -> int:
    """Check every file of a capture; exit code 1 where one is damaged."""
    from askless.reports.check import check

    document = check(options.capture)
    show(document, options.json)
    return 0 if document.sound else 1
