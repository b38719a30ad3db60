"""Whether the same read again and again is polling: a program that waits for something to
change.
"""

from __future__ import annotations

from askless.core.records.model import Request
from askless.core.settings import Settings

# A page or a job that asks the same twice does so for itself, however slow its queries are.
_ONE_TASK = ("http", "call", "job")


def waits_between(request: Request, before: int, after: int, settings: Settings) -> bool:
    """Whether a pause lies between two queries that a polling program makes: a sleep, or any long
    one outside of pages and jobs. What a query takes itself is no pause.
    """
    ended_ns = request.starts_ns[before] + request.durations_ns[before]
    begins_ns = request.starts_ns[after]
    if any(
        wait.kind == "sleep" and ended_ns <= wait.start_ns < begins_ns for wait in request.errands
    ):
        return True
    pause_ns = begins_ns - ended_ns
    return request.kind not in _ONE_TASK and pause_ns > settings.polling_gap_ms * 1e6
