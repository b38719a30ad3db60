"""Options that had another name until 0.5.0: the old name prints the new one."""

from __future__ import annotations

import argparse

from askless.core.errors import AskLessError

# Command -> old name -> new name.
RENAMED = {
    "capture": {
        "--at-most": "--max-queries",
        "--backlog": "--buffer-size",
        "--code": "--app-package",
        "--keep": "--max-size",
        "--open": "--allow-remote",
        "--slower-than": "--min-duration",
        "--times": "--repeat",
        "--wait": "--startup-timeout",
    },
    "compare": {"--judge": "--fail-on-new"},
    "demo": {"--times": "--repeat"},
    "findings": {"--judge": "--fail-on", "--round-trip": "--network-latency"},
    "gate": {"--partial": "--allow-missing"},
    "indexes": {"--even-if-busy": "--allow-busy", "--prove": "--test"},
    "report": {"--round-trip": "--network-latency"},
    "timeline": {"--unfolded": "--no-fold"},
    "trial": {
        "--even-if-busy": "--allow-busy",
        "--harder": "--synthetic-rows",
        "--on-copies": "--use-copies",
        "--round-trip": "--network-latency",
    },
    "weigh": {"--even-if-busy": "--allow-busy"},
}


class _Renamed(argparse.Action):
    """Raises AskLessError renamed-option."""

    def __call__(
        self,
        parser: argparse.ArgumentParser,
        _namespace: object,
        _values: object,
        option_string: str | None = None,
    ) -> None:
        raise AskLessError(
            "renamed-option",
            f"{option_string} is called {self.const} since 0.5.0",
            f"see: {parser.prog} --help",
        )


def add_renamed(parser: argparse.ArgumentParser, command: str) -> None:
    """Make a command's parser know the old names, without listing them in its help."""
    for old, new in RENAMED.get(command, {}).items():
        parser.add_argument(
            old, nargs="?", const=new, action=_Renamed, dest="renamed", help=argparse.SUPPRESS
        )
