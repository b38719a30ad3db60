"""Reads what a project says of itself: `askless.toml`, or the table `[tool.askless]` of
`pyproject.toml`.

[thresholds]
repeat_least = 5

[noise]
statements = ["^select pg_sleep"]     # regular expressions, looked for in a statement's shape

[[routes]]
matches = 'GET /calls/\\d+'
name = "GET /calls/{id}"

[[budgets]]
route = "GET /calls/due"              # or with *
queries = 4
rows = 120
bytes = "40 KiB"
database_ms = 20
allowed = ["over-wide"]

[logs.office]                          # a layout of an application's log: capture log --format
office pattern = '^(?P<time>\\S+ \\S+) \\[(?P<request>\\w+)\\] (?P<duration_ms>[\\d.]+) ms
(?P<sql>.+)$' system = "postgresql"

[[accepted]]
pattern = "n-plus-one"
route = "GET /pilots"                 # a part of the route; also: model, relation, key
reason = "never more than three rows"
until = 2027-03-31
"""

from __future__ import annotations

import re
from difflib import get_close_matches
from pathlib import Path
from typing import Any

import msgspec

from askless.core import patterns
from askless.core.aggregation.project_rules import Noise, ProjectRules, RouteName
from askless.core.comparison.budgets import MEASURES, Budget
from askless.core.errors import AskLessError
from askless.core.findings.acceptance import Accepted
from askless.core.settings import THRESHOLDS, Settings

FILE = "askless.toml"
OTHER = "pyproject.toml"
_SLUG = "project-file-bad"


class Project(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the file says; what it omits is as if there were no file. `path` is the file, None if
    there is none.
    """

    thresholds: dict[str, float] = {}
    noise: Noise = Noise()
    routes: tuple[RouteName, ...] = ()
    budgets: tuple[Budget, ...] = ()
    accepted: tuple[Accepted, ...] = ()
    logs: dict[str, dict[str, Any]] = {}
    path: Path | None = None

    def settings(self, show_values: bool = False, network_latency_ms: float = 0.0) -> Settings:
        """Thresholds, with the defaults where none is named."""
        plain = Settings(show_values=show_values, network_latency_ms=network_latency_ms)
        given: dict[str, Any] = {
            name: type(getattr(plain, name))(value) for name, value in self.thresholds.items()
        }
        return msgspec.structs.replace(plain, **given)

    def terms(self) -> ProjectRules:
        """Its terms, to be applied to requests."""
        return ProjectRules(self.routes, self.noise)


# The keys of each table, for anyone who mistypes one.
_KEYS: dict[str, tuple[str, ...]] = {
    "": ("thresholds", "noise", "routes", "budgets", "accepted", "logs"),
    "thresholds": THRESHOLDS,
    "noise": Noise.__struct_fields__,
    "routes": RouteName.__struct_fields__,
    "budgets": Budget.__struct_fields__,
    "accepted": Accepted.__struct_fields__,
}


def nearest(folder: Path) -> Path | None:
    """The project's file: in this folder, or in the nearest one above it that has one; None if none
    has.
    """
    start = folder.resolve()
    for above in (start, *start.parents):
        if (above / FILE).is_file():
            return above / FILE
        if (above / OTHER).is_file() and _names_us(above / OTHER):
            return above / OTHER
    return None


def _names_us(path: Path) -> bool:
    try:
        return "[tool.askless" in path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return False


def here() -> Project:
    """What counts in the working folder. Raises AskLessError: project-file-bad."""
    return read(nearest(Path()))


def read(path: Path | None) -> Project:
    """What a file says; nothing if there is no such file. Raises AskLessError: project-file-bad."""
    if path is None:
        return Project()
    import tomllib

    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        return Project()
    except (OSError, UnicodeDecodeError) as error:
        raise AskLessError(
            _SLUG, f"can't read {path}: {error}", "check that it is a readable text file"
        ) from None
    try:
        given = tomllib.loads(text)
    except (
        ValueError,
        RecursionError,
    ) as error:  # a number of thousands of digits is none of TOML's own errors
        raise AskLessError(_SLUG, f"{path} is not TOML: {error}", "fix that line") from None
    if path.name == OTHER:
        given = given.get("tool", {}).get("askless", {})
    _check_keys(path, given)
    try:
        result = msgspec.convert(given, Project)
    except msgspec.ValidationError as error:
        raise AskLessError(
            _SLUG,
            f"{path} is invalid: {error}",
            "an [[accepted]] case has pattern, reason and until (a date); [[budgets]] have a "
            "route and limits; see docs/tests.md",
        ) from None
    _check(path, result)
    return msgspec.structs.replace(result, path=path)


def _check_keys(path: Path, given: dict[str, Any]) -> None:
    """Raises AskLessError for a key that no one knows, and names the nearest one."""
    for name, value in given.items():
        if name not in _KEYS[""]:
            raise _unknown(path, name, "")
        if name == "logs":
            # their names are the project's own; their layouts are checked where they are read
            continue
        for turn, table in enumerate(value if isinstance(value, list) else [value], 1):
            for key in table if isinstance(table, dict) else ():
                if key not in _KEYS[name]:
                    raise _unknown(
                        path,
                        key,
                        f"[[{name}]], the {turn}." if isinstance(value, list) else f"[{name}]",
                    )


def _unknown(path: Path, key: str, table: str) -> AskLessError:
    known = _KEYS[re.sub(r"[^a-z]", "", table.split(",")[0])]
    near = get_close_matches(key, known, 1, 0.4)
    remedy = f"did you mean {near[0]}?" if near else "known keys: " + ", ".join(known)
    where = f" in {table}" if table else ""
    return AskLessError(_SLUG, f"{path} unknown key {key!r}{where}", remedy)


def _check(path: Path, project: Project) -> None:
    """Raises AskLessError for what is understood and can't be meant."""
    for case in project.accepted:
        if case.pattern not in patterns.REGISTRY:
            raise _bad(
                path,
                f"accepts {case.pattern!r}, which is not a pattern",
                patterns.instead_of(case.pattern),
            )
        if not case.reason.strip():
            raise _bad(
                path, f"accepts {case.pattern} without a reason", "add a reason for later readers"
            )
    for budget in project.budgets:
        _check_budget(path, budget)
    for name, threshold in project.thresholds.items():
        if threshold < 0:
            raise _bad(path, f"has a negative threshold {name}", "use 0 or more")
    try:
        project.terms()
    except re.error as error:
        raise _bad(
            path,
            f"has an invalid regular expression: {error}",
            "fix it; in TOML, write it in single quotes",
        ) from None


def _check_budget(path: Path, budget: Budget) -> None:
    for name in budget.allowed or ():
        if name not in patterns.REGISTRY:
            raise _bad(
                path,
                f"allows {name!r} on {budget.route}, which is not a pattern",
                patterns.instead_of(name),
            )
    if budget.allowed is None and all(getattr(budget, measure) is None for measure in MEASURES):
        raise _bad(
            path,
            f"has a budget for {budget.route} without limits",
            "name queries, rows, bytes, database_ms or allowed",
        )
    try:
        limits = [budget.limit(measure) for measure in MEASURES]
    except ValueError as error:
        raise _bad(path, f"has an invalid budget for {budget.route}", str(error)) from None
    if any(limit is not None and limit < 0 for limit in limits):
        raise _bad(path, f"has a negative budget for {budget.route}", "use 0 or more")


def _bad(path: Path, what: str, remedy: str) -> AskLessError:
    return AskLessError(_SLUG, f"{path} {what}", remedy)
