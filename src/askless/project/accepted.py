"""Reads the known cases that a project accepts from its `askless.toml`.

[[accepted]]
pattern = "n-plus-one"
route = "GET /pilots"          # a part of the route; also: model, relation, key
reason = "never more than three rows"
until = 2027-03-31
"""

from __future__ import annotations

from datetime import date
from pathlib import Path

import msgspec

from askless.core import patterns
from askless.core.acceptance import Accepted
from askless.core.errors import AskLessError

FILE = "askless.toml"


class _File(msgspec.Struct, forbid_unknown_fields=True):
    accepted: list[Accepted] = []


def nearest(folder: Path) -> Path | None:
    """The project's file: in this folder, or in the nearest one above it that has one; None where none has."""
    start = folder.resolve()
    return next((above / FILE for above in (start, *start.parents) if (above / FILE).is_file()), None)


def read(path: Path | None) -> list[Accepted]:
    """The accepted cases of a file; none where there is no such file. Raises AskLessError: project-file-bad."""
    if path is None:
        return []
    import tomllib

    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        return []
    except (OSError, UnicodeDecodeError) as error:
        raise AskLessError(
            "project-file-bad", f"can't read {path}: {error}", "check that it is a text file that you may read"
        ) from None
    try:
        result = msgspec.convert(tomllib.loads(text), _File).accepted
    except tomllib.TOMLDecodeError as error:
        raise AskLessError("project-file-bad", f"{path} is not TOML: {error}", "mend the line that is named") from None
    except msgspec.ValidationError as error:
        raise AskLessError(
            "project-file-bad",
            f"{path} says what can't be understood: {error}",
            "an [[accepted]] case has pattern, reason and until (a date), and may have route, model, relation, key",
        ) from None
    for case in result:
        if case.pattern not in patterns.REGISTRY:
            raise AskLessError(
                "project-file-bad",
                f"{path} accepts {case.pattern!r}, which is no pattern",
                patterns.instead_of(case.pattern),
            )
        if not case.reason.strip():
            raise AskLessError(
                "project-file-bad",
                f"{path} accepts {case.pattern} without a reason",
                "say why, for whoever reads it later",
            )
    return result


def for_strict(cases: list[Accepted]) -> list[dict[str, str]]:
    """The cases that strict mode leaves alone today, as it takes them."""
    today = date.today()
    return [
        {"route": case.route, "model": case.model, "relation": case.relation}
        for case in cases
        if case.pattern == "n-plus-one" and not case.key and case.holds(today)
    ]
