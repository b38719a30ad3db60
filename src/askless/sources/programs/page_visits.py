"""Visiting the pages of a program that a source runs: its options, and what is said of the
visits.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

from askless.core.errors import AskLessError
from askless.sources import Option, RecordingResult

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from typing import Any

    from askless.sources import Reporter
    from askless.sources.programs.program import ProgramEnd, VisitResult, Visits

SIZE = "{size}"  # what a URL holds where its size is

VISITING = (
    Option(
        "--visit",
        "wait until this URL answers, request it, then stop the program; may be repeated",
        "URL",
        many=True,
    ),
    Option(
        "--sizes",
        "visit each URL that contains {size} once per value, to see how the page grows, e.g. "
        "10,20,40",
        "N,N,...",
        default="",
    ),
    Option(
        "--visit-header",
        "send this header with each visit, e.g. 'Cookie: session=…'; env:NAME or file:PATH as its "
        "value reads it from there; may be repeated",
        "NAME:VALUE",
        many=True,
    ),
    Option("--repeat", "visits per URL after one warm-up visit (default: 5)", "N", int, 5),
    Option(
        "--startup-timeout",
        "time limit for the first URL to answer (default: 30)",
        "SECONDS",
        float,
        30.0,
    ),
)


def check_visits(values: Mapping[str, Any]) -> None:
    """Raises AskLessError: bad-repeat, bad-url, bad-sizes, bad-header."""
    headers_of(values.get("visit_header") or ())
    if values["repeat"] < 1:
        raise AskLessError(
            "bad-repeat", "--repeat takes a whole number from 1", "omit it for 5 visits"
        )
    sizes = sizes_of(values)
    grows = any(SIZE in url for url in values["visit"])
    if grows != bool(sizes):
        raise AskLessError(
            "bad-sizes",
            f"no --visit contains {SIZE}"
            if sizes
            else f"a --visit contains {SIZE}, but --sizes is missing",
            "as in: --visit 'http://127.0.0.1:8000/calls/due?first={size}' --sizes 10,20,40,80",
        )
    for url in values["visit"]:
        if not url.startswith(("http://", "https://")):
            raise AskLessError(
                "bad-url",
                f"--visit takes an http URL, not {url!r}",
                "write it like http://127.0.0.1:8000/calls/due",
            )


def headers_of(words: Sequence[str]) -> tuple[tuple[str, str], ...]:
    """The headers that options name; a value may be in the environment or in a file, so that it is
    on no command line. Raises AskLessError bad-header.
    """
    results = []
    for word in words:
        name, colon, value = word.partition(":")
        name, value = name.strip(), value.strip()
        if not colon or not _HEADER_NAME.fullmatch(name):
            raise AskLessError(
                "bad-header",
                f"--visit-header takes a name and a value with a colon between them, not {name[:40]!r}",
                "as in: --visit-header 'Accept-Language: en', or --visit-header 'Cookie: env:SESSION'",
            )
        value = _value_of(name, value)
        if not value.isprintable():
            raise AskLessError(
                "bad-header",
                f"the value of --visit-header {name} is not one line",
                "remove line ends",
            )
        results.append((name, value))
    return tuple(results)


_HEADER_NAME = re.compile(r"[A-Za-z0-9!#$%&'*+.^_`|~-]+")  # a token of RFC 9110, section 5.6.2


def _value_of(name: str, value: str) -> str:
    """A header's value, from the environment or a file where it says so."""
    kind, _, where = value.partition(":")
    if kind == "env":
        if where not in os.environ:
            raise AskLessError(
                "bad-header",
                f"--visit-header {name}: there is no environment variable {where}",
                "set it, or write the value itself",
            )
        return os.environ[where].strip()
    if kind == "file":
        try:
            return Path(where).read_text(encoding="utf-8").strip()
        except (OSError, UnicodeDecodeError) as error:
            raise AskLessError(
                "bad-header",
                f"--visit-header {name}: can't read {where}: {error}",
                "name a text file that holds the value",
            ) from None
    return value


def sizes_of(values: Mapping[str, Any]) -> list[str]:
    """The sizes that the options name, in order. Raises AskLessError bad-sizes."""
    text = str(values.get("sizes") or "")
    sizes = [part.strip() for part in text.split(",")] if text.strip() else []
    if not all(size.isdigit() for size in sizes):
        raise AskLessError(
            "bad-sizes",
            f"--sizes takes whole numbers with commas between them, not {text!r}",
            "as in: --sizes 10,20,40",
        )
    return sizes


def visits_of(values: Mapping[str, Any]) -> Visits | None:
    """The visits that the options ask for; None without any."""
    from askless.sources.programs import program

    if not values["visit"]:
        return None
    sizes = sizes_of(values)
    urls = [
        one
        for url in values["visit"]
        for one in ([url.replace(SIZE, s) for s in sizes] if SIZE in url else [url])
    ]
    headers = headers_of(values.get("visit_header") or ())
    return program.Visits(tuple(urls), values["repeat"], values["startup_timeout"], headers=headers)


def recorded(ended: ProgramEnd | None, voice: Reporter) -> RecordingResult:
    """How a recording ended with its program (None: there was none), and what its pages answered,
    which is said.
    """
    if ended is None:
        return RecordingResult()
    tell_visits(ended.visited, voice)
    if ended.exit_code and not ended.stopped:
        voice.note(f"the program ended with exit code {ended.exit_code}")
    return RecordingResult(None if ended.stopped else ended.exit_code)


def check_program(values: Mapping[str, Any], example: str) -> None:
    """Raises AskLessError no-program if pages are to be visited and no program is named that
    answers.
    """
    if values["visit"] and not values["program"]:
        raise AskLessError(
            "no-program", "--visit needs a program", f"name it after --, e.g.: -- {example}"
        )


def tell_visits(visited: Sequence[VisitResult], voice: Reporter) -> None:
    """Say what each page answered, and how long it took."""
    from statistics import median

    from askless.core.formatting import plural

    for page in visited:
        low, middle, high = (
            min(page.durations_ms),
            median(page.durations_ms),
            max(page.durations_ms),
        )
        voice.note(
            f"{page.url}: status {page.status}, {plural(len(page.durations_ms), 'visit')}, "
            f"median {middle:.1f} ms ({low:.1f} to {high:.1f})"
        )
        if page.status >= 400:
            voice.note(
                f"note: {page.url} answered with status {page.status}: the intended page may not "
                "have run"
            )
