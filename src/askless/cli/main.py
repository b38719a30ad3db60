"""`askless`: finds the command, lets it declare its options, runs it, and turns errors into
messages and exit codes.

Exit codes: 0 done; 1 a command that was asked to judge found something; 2 bad input or bad
surroundings; 70 an error that no one foresaw; 130 Ctrl-C. `capture app` ends with the recorded
program's own exit code.

Start-up is quick because nothing here imports more than argparse: a command's module is imported
when the command is asked for, and imports what its work needs when it runs.
"""

from __future__ import annotations

import argparse
import os
import sys
from contextlib import AbstractContextManager, nullcontext
from importlib import import_module
from pathlib import Path

from askless import __version__
from askless.cli.renamed_options import add_renamed
from askless.cli.unexpected_errors import ThreadFailures, report, watched_threads
from askless.core.errors import AskLessError

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

# Command -> its module below `askless.cli`, and what it does. A new command is one file and one
# line.
COMMANDS = {
    "capture": ("capture", "record a program's queries, or check a capture"),
    "requests": ("requests", "show queries and database time by route"),
    "timeline": ("timeline", "show the queries of one request in order, loops folded"),
    "findings": ("findings", "list wasteful query patterns with evidence and advice"),
    "growth": (
        "growth",
        "show how queries grow with rows, or change over time",
    ),
    "plan": ("plan", "explain statements on the database and recommend indexes"),
    "trial": ("trial", "test advice on the database: compare results and timings"),
    "indexes": ("indexes", "recommend indexes for the whole workload"),
    "weigh": ("weigh", "measure each clause's cost by removing one at a time"),
    "tables": ("tables", "show a database's tables with sizes, keys and indexes, or save them"),
    "compare": ("compare", "compare two captures: queries, rows, bytes, time, findings"),
    "gate": (
        "gate",
        "check a capture against budgets and a baseline; exit 1 if a limit is exceeded",
    ),
    "report": (
        "report",
        "write a single-page HTML report: routes, findings, timelines, growth, plans, comparison",
    ),
    "serve": ("serve", "serve that report on loopback while the capture grows"),
    "export": ("export", "export a capture as Parquet files or OpenTelemetry spans"),
    "patterns": (
        "patterns",
        "explain the patterns: how to recognise each one, how to fix it, when to leave it alone",
    ),
    "demo": ("demo", "run everything on a made-up harbour office (Flask and SQLAlchemy on SQLite)"),
    "schema": ("schema", "print the JSON Schema of a document"),
}

EPILOG = """a first session:
  askless capture app -o calls -- python app.py       record until you stop it
  askless requests calls                              queries per route
  askless findings calls                              wasteful queries: where, why, what to do
  askless plan calls --db sqlite:///harbour.db        the costliest statements' plans, explained
  askless indexes calls --db sqlite:///harbour.db     one set of indexes for the workload
  askless trial calls --db sqlite:///harbour.db --finding 1    test the advice: same rows, measured
  askless demo                                        all of this on a made-up harbour office

exit codes: 0 success, 1 a check failed (gate, --fail-on), 2 bad input, 70 internal error"""


def make_parser(only: str | None = "") -> argparse.ArgumentParser:
    """The parser, with the options of one command (None: of all); the other commands are known by
    name.
    """
    from askless.cli.common import described

    parser = argparse.ArgumentParser(
        prog="askless",
        description="Shows the SQL that an application sends per request, finds wasteful queries, "
        "and tests the fix.",
        epilog=EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"askless {__version__}")
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", required=True)
    for name, (module, help_text) in COMMANDS.items():
        if only in (None, name):
            declared = import_module("askless.cli." + module)
            command = described(commands, name, help_text, declared.EXAMPLES)
            declared.declare(command)
            add_renamed(command, name)
        else:
            commands.add_parser(name, help=help_text)
    return parser


def _command_in(words: Sequence[str]) -> str:
    """The command that a line of words is about; '' where it names none."""
    first = next((word for word in words if not word.startswith("-")), "")
    return first if first in COMMANDS else ""


def apart(words: list[str]) -> tuple[list[str], list[str]]:
    """The words, and those after `--` where they are a program's that argparse can't tell from
    names of files.
    """
    if words[:1] == ["trial"] and "--" in words:
        place = words.index("--")
        return words[:place], words[place + 1 :]
    if words[:1] == ["capture"] and "--" in words:
        from askless.cli.capture import takes_files_and_program

        if takes_files_and_program(words[1]):
            place = words.index("--")
            return words[:place], words[place + 1 :]
    return words, []


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; its exit code."""
    words = list(sys.argv[1:] if arguments is None else arguments)
    with watched_threads() as dead:
        code = _run(words, dead)
    return report(dead.error) if dead.error is not None else code


def _run(words: list[str], dead: ThreadFailures) -> int:
    try:
        if "_ARGCOMPLETE" in os.environ:
            _complete()
        words, behind = apart(words)
        options = make_parser(_command_in(words)).parse_args(words)
        options.behind = behind
        _recover(options)
        with _spread_as(options):
            if getattr(options, "db", None) is None:
                return int(options.run(options))
            from askless.cli.signals import stoppable

            with stoppable():
                return int(options.run(options))
    except AskLessError as error:
        _say(error.message, error.remedy)
        return 2
    except KeyboardInterrupt:
        return 130
    except BrokenPipeError:
        # Anyone who read our output has seen enough; keep the interpreter from complaining at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        where = f" ({error.filename})" if error.filename else ""
        _say(f"{error.strerror or error}{where}", "check the disk, the path and its permissions")
        return 2
    except Exception as error:  # noqa: BLE001  (the last net)
        return report(dead.error or error)


def _recover(options: argparse.Namespace) -> None:
    """Add to the captures that a command reads what a killed receiver had taken. Raises
    AskLessError not-recovered.
    """
    for name in ("capture", "before", "after", "baseline"):
        path = getattr(options, name, None)
        if isinstance(path, Path):
            from askless.api.recovery import complete

            spans = complete(path)
            if spans:
                from askless.output import notices

                notices.note(
                    f"note: recovered {spans} spans that a killed receiver had acknowledged; "
                    f"added them to {path}"
                )


def _spread_as(options: argparse.Namespace) -> AbstractContextManager[None]:
    """Large captures are added up as the options say. Raises AskLessError bad-workers."""
    if not hasattr(options, "cluster"):
        return nullcontext()
    from askless import executors

    workers, cluster = options.workers, options.cluster
    if workers is not None and workers < 1:
        raise AskLessError(
            "bad-workers",
            f"--workers takes a whole number from 1, not {workers}",
            "omit it to use one per CPU",
        )
    return executors.wished(executors.ExecutorOptions(workers or 0, cluster))


def _say(message: str, remedy: str) -> None:
    from askless.core.formatting import escaped_line

    sys.stderr.write("askless: " + escaped_line(message) + "\n")
    if remedy:
        sys.stderr.write("  " + escaped_line(remedy) + "\n")


def _complete() -> None:
    """Answer the shell, which asks what may follow; returns where the extra is not installed."""
    try:
        import argcomplete
    except ImportError:
        return
    line = os.environ.get("COMP_LINE", "")
    argcomplete.autocomplete(make_parser(_command_in(line.split()[1:])))
