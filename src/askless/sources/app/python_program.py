"""Runs a Python program with the recorder inside it.

The recorder reaches it, its forked workers and the children that it starts with the same
interpreter, through PYTHONPATH.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import BinaryIO

import msgspec

from askless.capture import crash_recovery
from askless.core.progress import Progress, quiet
from askless.core.records.sampling import SamplingRules
from askless.sources.programs import program
from askless.sources.programs.program import ProgramEnd, Visits, Watch

PROBE = Path(__file__).resolve().parents[2] / "probe"


class RecorderOptions(msgspec.Struct, frozen=True):
    """How to record. `strict` is what strict mode is reported, as JSON; '' leaves it off.
    `variables` are the program's.

    `code` are installed packages that count as the application's own.
    """

    echo: str = ""
    track_use: bool = False
    track_memory: bool = False
    strict: str = ""
    code: tuple[str, ...] = ()
    variables: tuple[tuple[str, str], ...] = ()
    sparing: SamplingRules = SamplingRules()


def environment(folder: Path, recording: RecorderOptions) -> dict[str, str]:
    """The program's environment: as ours, with the recorder on its path."""
    env = dict(os.environ)
    inherited = env.get("PYTHONPATH")
    inject = str(PROBE / "inject")
    env["PYTHONPATH"] = inject + (os.pathsep + inherited if inherited else "")
    env["ASKLESS_CAPTURE"] = str(folder)
    env["ASKLESS_FALLBACK"] = str(PROBE / "fallback")
    spare = recording.sparing
    wishes = {
        "ASKLESS_ECHO": recording.echo,
        "ASKLESS_TRACK_USE": "1" if recording.track_use else "",
        "ASKLESS_TRACK_MEMORY": "1" if recording.track_memory else "",
        "ASKLESS_STRICT": recording.strict,
        "ASKLESS_CODE": ",".join(recording.code),
        "ASKLESS_SAMPLE": _number(spare.sample if spare.sample > 1 else 0),
        "ASKLESS_SLOWER_NS": _number(spare.slower_ns),
        "ASKLESS_AT_MOST": _number(spare.at_most),
        "ASKLESS_KEEP_BYTES": _number(spare.keep_bytes),
    }
    for name, value in wishes.items():
        env.pop(name, None)
        if value:
            env[name] = value
    return env | dict(recording.variables)


def _number(value: int) -> str:
    return str(value) if value else ""


def run(
    command: Sequence[str],
    folder: Path,
    visits: Visits | None = None,
    recording: RecorderOptions = RecorderOptions(),  # noqa: B008  (frozen)
    progress: Progress = quiet,
    watch: Watch | None = None,
    output: BinaryIO | None = None,
) -> ProgramEnd:
    """Run the program until it ends, or until its pages are visited. Raises AskLessError: see
    `programs.run`.
    """
    foreign = crash_recovery.tails_of(folder)
    try:
        return program.run(
            command, environment(folder, recording), visits, progress, watch, None, output
        )
    finally:
        crash_recovery.finish(folder, foreign)
