"""Programs on Django that are recorded as they are, and again with edits taken word for word."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

from tests.conftest import run

PROGRAMS = Path(__file__).parent / "programs"
Recorded = Callable[..., tuple[Path, str]]


def recorder_of(program: str, places: tuple[str, ...], folder: Path, *options: str) -> Recorded:
    """Records the program with an edit put at each of these words, none where none is given:
    `recorded(PLACE=edit)` gives the capture, and what was printed.
    """

    def recorded(**edits: str) -> tuple[Path, str]:
        text = program
        for place in places:
            text = text.replace(place, edits.get(place, ""))
        turn = len(list(folder.glob("*.py")))
        script, capture = folder / f"{turn}.py", folder / f"c{turn}"
        script.write_text(text)
        words = (*options, "-o", capture, "--", sys.executable, script)
        ran = run("capture", "app", *words, env={"PYTHONPATH": str(PROGRAMS)})
        assert ran.code == 0, ran.err
        return capture, ran.out

    return recorded
