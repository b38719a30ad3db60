"""The lists that were shown last, so that a number refers to the same item as in the list that
someone has in view.

They are kept in the user's state folder, by capture: names only, which say nothing by themselves.
Nothing depends on them: where they can't be kept, numbers count in the whole list.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

from askless.project import user_files

CAPTURES_MOST = 40
NAMES_MOST = 5_000


def _file() -> Path:
    return user_files.folder("XDG_STATE_HOME", ".local/state") / "lists.json"


def _all(file: Path) -> dict[str, dict[str, list[str]]]:
    try:
        known = json.loads(user_files.read(file))
    except (OSError, ValueError, RecursionError):
        return {}
    return known if isinstance(known, dict) else {}


def remember(capture: Path, kind: str, names: Sequence[str]) -> None:
    """Keep the names of a list that is shown now; `kind` says what they name: request or
    finding.
    """
    try:
        file = _file()
        lists = _all(file)
        where = str(capture.resolve())
        of_capture = lists.pop(where, {})
        lists[where] = {
            **(of_capture if isinstance(of_capture, dict) else {}),
            kind: list(names[:NAMES_MOST]),
        }
        for oldest in list(lists)[:-CAPTURES_MOST]:
            del lists[oldest]
        user_files.write(file, json.dumps(lists).encode("ascii"))
    except (OSError, RuntimeError):  # a home that can't be written to, or is not known
        return


def recall(capture: Path, kind: str) -> list[str] | None:
    """The names of the list of this kind that was shown last; None if none is known."""
    try:
        of_capture = _all(_file()).get(str(capture.resolve()))
    except (OSError, RuntimeError):
        return None
    names = of_capture.get(kind) if isinstance(of_capture, dict) else None
    return [str(name) for name in names] if isinstance(names, list) else None
