"""Visiting the pages of a program that a source runs: its options, and what is said of the visits."""

from __future__ import annotations

from askless.core.errors import AskLessError
from askless.sources import Option

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from typing import Any

    from askless.sources import Voice
    from askless.sources.programs import Visited, Visits

VISITING = (
    Option("--visit", "wait until it answers, request it, then stop the program; may be repeated", "URL", many=True),
    Option("--times", "visits of each URL after one to warm up (default: 5)", "N", int, 5),
    Option("--wait", "how long the first URL may take to answer (default: 30)", "SECONDS", float, 30.0),
)


def check_visits(values: Mapping[str, Any]) -> None:
    """Raises AskLessError: bad-times, bad-url."""
    if values["times"] < 1:
        raise AskLessError("bad-times", "--times takes a whole number from 1", "leave it out for 5 visits")
    for url in values["visit"]:
        if not url.startswith(("http://", "https://")):
            raise AskLessError(
                "bad-url",
                f"--visit takes an http URL, not {url!r}",
                "write it like http://127.0.0.1:8000/calls/due",
            )


def visits_of(values: Mapping[str, Any]) -> Visits | None:
    """The visits that the options ask for; None without any."""
    from askless.sources import programs

    if not values["visit"]:
        return None
    return programs.Visits(tuple(values["visit"]), values["times"], values["wait"])


def tell_visits(visited: Sequence[Visited], voice: Voice) -> None:
    """Say what each page answered, and how long it took."""
    from statistics import median

    from askless.core.words import plural

    for page in visited:
        low, middle, high = min(page.durations_ms), median(page.durations_ms), max(page.durations_ms)
        voice.note(
            f"{page.url}: status {page.status}, {plural(len(page.durations_ms), 'visit')}, "
            f"median {middle:.1f} ms ({low:.1f} to {high:.1f})"
        )
        if page.status >= 400:
            voice.note(f"note: {page.url} answered with status {page.status}: the page that you meant may not have run")
