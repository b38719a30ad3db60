"""What strict mode is reported of the cases that a project accepts."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date

from askless.core.findings.acceptance import Accepted


def cases_for(accepted: Iterable[Accepted]) -> list[dict[str, str]]:
    """The cases that strict mode leaves alone today, as it takes them."""
    today = date.today()
    return [
        {"route": case.route, "model": case.model, "relation": case.relation}
        for case in accepted
        if case.pattern == "n-plus-one" and not case.key and case.holds(today)
    ]
