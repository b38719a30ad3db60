"""What PostgreSQL's auto_explain writes: a statement, perhaps its parameters, and the plan that it
ran by.
"""

from __future__ import annotations

import re
from typing import NamedTuple

import msgspec

_TEXT, _PARAMETERS = "Query Text: ", "Query Parameters: "
_STEP = re.compile(r"^\S.*\(cost=\d", re.MULTILINE)  # the first line of a plan


class LoggedPlan(NamedTuple):
    """A plan with the statement that it belongs to; `parameters` as DETAIL lines have them."""

    statement: str
    parameters: str
    plan: str


def explained(text: str) -> LoggedPlan | None:
    """What is after "plan:", as text or JSON; None for another form, which no reader of plans knows
    (XML, YAML).
    """
    text = text.strip("\n")
    if text.startswith("{"):
        try:
            given = msgspec.json.decode(text)
        except msgspec.DecodeError:
            return None
        return LoggedPlan(
            str(given.get("Query Text") or ""), str(given.get("Query Parameters") or ""), text
        )
    step = _STEP.search(text)
    if step is None or not text.startswith(_TEXT):
        return None
    statement, _, parameters = text[len(_TEXT) : step.start()].partition("\n" + _PARAMETERS)
    return LoggedPlan(statement.strip(), parameters.strip(), text[step.start() :])
