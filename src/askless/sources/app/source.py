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
    help = "run a Python program, unchanged, and record what it asks"
    examples = """  askless capture app -o calls -- python app.py                 until you press Ctrl-C
  askless capture app -o due --visit http://127.0.0.1:8000/calls/due --repeat 10 -- python app.py
  askless capture app --echo -- python -i shell.py              shows under each line what it asked"""
    nothing = "the program asked no database that is recorded, or its interpreter takes no PYTHONPATH (-I, -E, -S)"
    options = (
        *VISITING,
        Option("--echo", "print each statement on stderr as it ends, with its time and rows", bare=True),
        Option(
            "--track-use",
            "note which loaded objects and columns the application reads (SQLAlchemy, Django); costs time for each object",
            bare=True,
        ),
        Option(
            "--track-memory",
            "note the most memory that each request took beyond what was held when it began, where nothing ran beside it; "
            "the program's times are longer then",
            bare=True,
        ),
        Option(
            "--strict",
            "raise in the program where one relation is loaded lazily N times from one line (default: 3)",
            "N",
            int,
            bare=3,
        ),
        Option(
            "--app-package",
            "an installed package that counts as the application's own code; may be repeated (default: the one that is started)",
            "PACKAGE",
            many=True,
        ),
        Option("--strict-route", "strict on these routes only", "TEXT", many=True),
        *SPARING,
        Option("program", "the program and its arguments", "-- PROGRAM ..."),
    )

    def check(self, values: Mapping[str, Any]) -> None:
        """Raises AskLessError: no-program, bad-times, bad-url, bad-strict, and what `sparing_of` raises."""
        if not values["program"]:
            raise AskLessError(
                "no-program",
                "there is no program to run",
                "name it behind --, as in: askless capture app -- python app.py",
            )
        check_visits(values)
        sparing_of(values)
        if values["strict"] is not None and values["strict"] < 2:
            raise AskLessError(
                "bad-strict", "--strict takes a whole number from 2", "leave the number out to raise at the third load"
            )

    def run(self, values: Mapping[str, Any], folder: Path, voice: Reporter) -> RecordingResult:
        """Run the program; `variables` among the values are added to its environment. Raises AskLessError: see the run."""
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
        ended = python_program.run(values["program"], folder, visits_of(values), recording, voice.progress)
        voice.progress("")
        return recorded(ended, voice)


def strict_settings(least: int | None, routes: Sequence[str]) -> str:
    """What strict mode is told, as JSON: when to raise, on which routes, and which known cases are accepted."""
    import json

    from askless.project import file, strict

    if least is None:
        return ""
    known = strict.cases_for(file.here().accepted)
    return json.dumps({"least": least, "routes": list(routes), "accepted": known})


SOURCE = App()
