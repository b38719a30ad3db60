"""What someone typed to a name: a name is taken as it is, a number as a place in the list that was
shown last.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from askless.core.errors import AskLessError
from askless.core.whole_numbers import whole_number
from askless.project import last_list
from askless.reports.loading import requests_of

_PLACE_DIGITS_MOST = 7  # a finding's name has eight characters, and may be digits alone


def request_name(capture: Path, word: str) -> str:
    """The name of a request. Raises AskLessError no-request for a number that is not a place in the
    list.
    """
    number = whole_number(word)
    if number is None:
        return word
    remedy = f"list them: askless requests {capture} --each"
    return _at(
        capture,
        "request",
        number,
        lambda: [request.name for request in requests_of(capture)],
        remedy,
    )


def finding_name(
    capture: Path, word: str, listed: list[str] | None = None, shown: bool = True
) -> str:
    """The name of a finding. A number counts in the list that was shown last, else in `listed`
    (None: all that is open).

    Without `shown`, it counts in `listed` whatever was shown.

    Raises AskLessError no-finding for a number that is not a place in the list.
    """
    number = whole_number(word)
    if number is None or len(word) > _PLACE_DIGITS_MOST:
        return word
    remedy = f"list them: askless findings {capture}"
    if listed is not None and not shown:
        return _place(listed, "finding", number, remedy)
    return _at(
        capture,
        "finding",
        number,
        lambda: _every_finding(capture) if listed is None else listed,
        remedy,
    )


def _every_finding(capture: Path) -> list[str]:
    from askless.reports.findings import findings

    return [finding.key for finding in findings(capture).findings]


def _at(
    capture: Path, kind: str, place: int, everything: Callable[[], list[str]], remedy: str
) -> str:
    shown = last_list.recall(capture, kind)
    return _place(everything() if shown is None else shown, kind, place, remedy)


def _place(names: list[str], kind: str, place: int, remedy: str) -> str:
    if not 1 <= place <= len(names):
        raise AskLessError(
            f"no-{kind}", f"there is no {kind} {place}: {len(names)} were listed", remedy
        )
    return names[place - 1]
