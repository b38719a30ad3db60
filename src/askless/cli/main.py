"""`askless`: builds the parser from the commands, runs one, and turns errors into messages and exit codes.

Exit codes: 0 done; 1 a command that was asked to judge found something; 2 bad input or bad surroundings; 130 Ctrl-C.
`capture app` ends with the recorded program's own exit code.
"""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Sequence
from importlib import import_module

from askless import __version__
from askless.core.errors import AskLessError

# Command -> module. A new command is one file and one line.
COMMANDS = {
    "capture": "askless.cli.capture",
    "requests": "askless.cli.requests",
    "timeline": "askless.cli.timeline",
    "findings": "askless.cli.findings",
    "plan": "askless.cli.plan",
    "trial": "askless.cli.trial",
    "indexes": "askless.cli.indexes",
    "weigh": "askless.cli.weigh",
    "tables": "askless.cli.tables",
    "compare": "askless.cli.compare",
    "demo": "askless.cli.demo",
    "schema": "askless.cli.schema",
}

EPILOG = """a first session:
  askless capture app -o calls -- python app.py       record, until you stop it
  askless requests calls                              which pages ask how much
  askless findings calls                              what asks too much, where, and what to do
  askless plan calls --db sqlite:///harbour.db        plans of what costs most, in words
  askless indexes calls --db sqlite:///harbour.db     one set of indexes for all of it
  askless trial calls --db sqlite:///harbour.db --finding 1    prove it: same rows, measured
  askless demo                                        all of that on a made-up harbour office

exit codes: 0 done, 1 a command that was asked to judge found something, 2 bad input"""


def make_parser(only: str | None = None) -> argparse.ArgumentParser:
    """The whole parser, or the part for one command: the others' imports then cost nothing."""
    parser = argparse.ArgumentParser(
        prog="askless",
        description="See the SQL that an application asks per request, find what asks too much, prove the fix.",
        epilog=EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"askless {__version__}")
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", required=True)
    for name, module in COMMANDS.items():
        if only in (None, name):
            import_module(module).add(commands, name)
    return parser


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; its exit code."""
    words = list(sys.argv[1:] if arguments is None else arguments)
    first = next(iter(words), "")
    parser = make_parser(first if first in COMMANDS else None)
    _complete(parser)
    options = parser.parse_args(words)
    try:
        return int(options.run(options))
    except AskLessError as error:
        _say(error.message, error.remedy)
        return 2
    except KeyboardInterrupt:
        return 130
    except BrokenPipeError:
        # Whoever read our output has seen enough; keep the interpreter from complaining at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        where = f" ({error.filename})" if error.filename else ""
        _say(f"{error.strerror or error}{where}", "check the disk, the path and its permissions")
        return 2


def _say(message: str, remedy: str) -> None:
    from askless.output.text import safe

    sys.stderr.write("askless: " + safe(message) + "\n")
    if remedy:
        sys.stderr.write("  " + safe(remedy) + "\n")


def _complete(parser: argparse.ArgumentParser) -> None:
    if "_ARGCOMPLETE" not in os.environ:
        return
    try:
        import argcomplete
    except ImportError:
        return
    argcomplete.autocomplete(parser)


def run() -> None:
    """The entry point of the installed program."""
    sys.exit(main())
