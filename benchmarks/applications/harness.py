"""What the applications of `benchmarks/advice.py` share: pages with labels, and a run of them as
they are or with edits.

`python APPLICATION URL EDITS.json OUT.json`: EDITS.json maps a page to code that is put to its
query, or is in its place. OUT.json gets what each page gave, the labels, and the median time of a
page in ms. Under `ASKLESS_CAPTURE` pages run once each as requests of their own; otherwise each
runs several times, for its time.
"""

from __future__ import annotations

import json
import os
import sys
import time
from collections.abc import Callable
from statistics import median
from typing import Any

TIMES = 9
URL = sys.argv[1]
EDITS: dict[str, str] = json.load(open(sys.argv[2]))
PAGES: dict[str, tuple[Callable[..., Any], str]] = {}
CALLS, VESSELS, TUGS = 60, 60, 6
DUE = 40  # calls on a page


def page(label: str = "") -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """A page with this kind of waste ("pattern", several with spaces); '' for a clean one."""

    def register(function: Callable[..., Any]) -> Callable[..., Any]:
        PAGES[function.__name__] = function, label
        return function

    return register


def edit() -> str:
    """The code that the edit of the page that runs now puts to its query; '' for none."""
    return EDITS.get(running, "")


def given(base: str, names: dict[str, Any]) -> Any:
    """The page's query, with its edit where that is an addition."""
    code = edit()
    return evaluated(base + (code if code.startswith(".") else ""), names)


def evaluated(text: str, names: dict[str, Any], more: dict[str, Any] | None = None) -> Any:
    """What a query's text gives; its line is one of the page's own file, as if it stood there."""
    return eval(compile(text, f"/harbour/pages/{running}.py", "eval"), names, more or {})


def data() -> dict[str, list[dict[str, Any]]]:
    """The rows of the harbour office: the last calls have no vessel, every third no tug, so that an
    inner join loses some.
    """
    return {
        "vessel": [
            dict(id=i, name=f"Tern {i}", flag="NO" if i % 3 else "SE", log="x" * 700)
            for i in range(1, VESSELS + 1)
        ],
        "tug": [dict(id=i, name=f"Tug {i}") for i in range(1, TUGS + 1)],
        "port_call": [
            dict(
                id=i,
                vessel_id=None if i % 13 == 0 else i,
                status=("due", "berthed", "left")[i % 3],
                agent="Ann",
            )
            for i in range(1, CALLS + 1)
        ],
        "tug_job": [
            dict(id=10 * i + n, port_call_id=i, tug_id=(i + n) % TUGS + 1)
            for i in range(1, CALLS + 1)
            if i % 3
            for n in (1, 2)
        ],
    }


running = ""


def main(around: Callable[[Callable[..., Any]], Any]) -> None:
    """Run all pages; `around` calls one with a session or the like of its own."""
    global running
    import askless

    recorded = bool(os.environ.get("ASKLESS_CAPTURE"))
    gave, took = {}, {}
    for running, (function, _) in PAGES.items():
        times = []
        try:
            around(function)  # warm: connections, compiled statements
            for _ in range(3 if recorded else TIMES):
                start = time.perf_counter()
                with askless.request(running):
                    result = around(function)
                times.append((time.perf_counter() - start) * 1e3)
            gave[running], took[running] = result, median(times)
        except Exception as error:
            gave[running], took[running] = f"{type(error).__name__}: {error}", 0.0
    labels = {name: label for name, (_, label) in PAGES.items()}
    crashed = [name for name, result in gave.items() if isinstance(result, str)]
    json.dump(
        {"gave": gave, "took": took, "labels": labels, "crashed": crashed},
        open(sys.argv[3], "w"),
        default=str,
    )
