"""The source `app`: a Python program, run unchanged with the recorder inside it."""

from __future__ import annotations

from askless.core.errors import AskLessError
from askless.sources import Option, RecordingResult
from askless.sources.programs.page_visits import VISITING, check_visits, recorded, visits_of
from askless.sources.sampling import SPARING, sparing_of

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from pathlib import Path
    from typing import Any

    from askless.sources import Reporter


class App:
    """See the module."""

    name = "app"
    help = "run a Python program unchanged and record its queries"
    examples = """  askless capture app -o calls -- python app.py                 until you press Ctrl-C
  askless capture app -o due --visit http://127.0.0.1:8000/calls/due --repeat 10 -- python app.py
  askless capture app --echo -- python -i shell.py              prints each query under the line that sent it"""
    nothing = (
        "the program used no supported database driver, or its interpreter ignores PYTHONPATH "
        "(-I, -E, -S)"
    )
    options = (
        *VISITING,
        Option(
            "--echo", "print each statement on stderr as it ends, with its time and rows", bare=True
        ),
        Option(
            "--track-use",
            "record which loaded objects and columns the application reads (SQLAlchemy, Django); "
            "costs time per object",
            bare=True,
        ),
        Option(
            "--track-memory",
            "record each request's peak memory above its start, if nothing ran concurrently; "
            "slows the program down",
            bare=True,
        ),
        Option(
            "--strict",
            "raise an exception in the program when one line lazily loads the same relation N "
            "times (default: 3)",
            "N",
            int,
            bare=3,
        ),
        Option(
            "--app-package",
            "an installed package that is application code; may be repeated (default: the package "
            "that is started)",
            "PACKAGE",
            many=True,
        ),
        Option("--strict-route", "apply --strict only to these routes", "TEXT", many=True),
        *SPARING,
        Option("program", "the program and its arguments", "-- PROGRAM ..."),
    )

    def check(self, values: Mapping[str, Any]) -> None:
        """Raises AskLessError: no-program, bad-repeat, bad-url, bad-strict, and what `sparing_of`
        raises.
        """
        if not values["program"]:
            raise AskLessError(
                "no-program",
                "no program to run",
                "name it after --, e.g.: askless capture app -- python app.py",
            )
        check_visits(values)
        sparing_of(values)
        if values["strict"] is not None and values["strict"] < 2:
            raise AskLessError(
                "bad-strict",
                "--strict takes a whole number from 2",
                "omit the number to raise at the third load",
            )

    def run(self, values: Mapping[str, Any], folder: Path, voice: Reporter) -> RecordingResult:
        """Run the program; `variables` among the values are added to its environment. Raises
        AskLessError: see the run.
        """
        from askless.sources.app import python_program

        recording = python_program.RecorderOptions(
            echo="" if not values["echo"] else "colour" if voice.colour else "plain",
            track_use=bool(values["track_use"]),
            track_memory=bool(values.get("track_memory")),
            strict=strict_settings(values["strict"], values["strict_route"]),
            code=tuple(values.get("app_package") or ()),
            variables=values.get("variables", ()),
            sparing=sparing_of(values),
        )
        ended = python_program.run(
            values["program"], folder, visits_of(values), recording, voice.progress
        )
        voice.progress("")
        return recorded(ended, voice)


def strict_settings(least: int | None, routes: Sequence[str]) -> str:
    """What strict mode is reported, as JSON: when to raise, on which routes, and which known cases
    are accepted.
    """
    import json

    from askless.project import file, strict

    if least is None:
        return ""
    known = strict.cases_for(file.here().accepted)
    return json.dumps({"least": least, "routes": list(routes), "accepted": known})


SOURCE = App()
