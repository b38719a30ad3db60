"""How an application writes its statements into its log, and what is wrong with a layout that
someone wrote.
"""

from __future__ import annotations

import re

import msgspec

from askless.core.errors import AskLessError
from askless.core.systems import called

GROUPS = (
    "time", "sql", "parameters", "values", "duration_ms", "duration_s", "rows", "error", "request",
    "route", "session", "connection", "file", "line", "function", "object",
)  # fmt: skip
FOLLOWING = (
    "parameters",
    "value",
    "bound",
    "values",
    "error",
    "failed",
    "session",
    "request",
    "file",
    "line",
    "function",
)
TIME = r"(?P<time>\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?)"


class Layout(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How an application writes its statements: a `pattern` with named groups, or `fields` of JSON
    lines by these names.

    With both, the fields are those of the object that is in the pattern's group `object`. `follows`
    is a pattern for lines that come after a statement's and tell more of it; after one, the
    statement's text goes on no more. `system` is whose SQL it is.
    """

    pattern: str = ""
    fields: dict[str, str] = {}
    follows: str = ""
    system: str = "postgresql"


def checked(layout: Layout, where: str) -> Layout:
    """The layout. Raises AskLessError bad-layout for one that can't be used."""
    remedy = "name the groups or fields: " + ", ".join(GROUPS)
    try:
        groups = set(re.compile(layout.pattern).groupindex)
        following = set(re.compile(layout.follows).groupindex)
    except re.error as error:
        raise AskLessError(
            "bad-layout",
            f"{where} has an invalid pattern: {error}",
            "in TOML, write it in single quotes",
        ) from None
    if (not layout.pattern and not layout.fields) or (
        layout.pattern and layout.fields and "object" not in groups
    ):
        raise AskLessError("bad-layout", f"{where} must have either a pattern or fields", remedy)
    known = groups | set(layout.fields)
    if unknown := known - set(GROUPS):
        raise AskLessError(
            "bad-layout", f"{where} names {', '.join(sorted(unknown))}, which are unknown", remedy
        )
    if unknown := following - set(FOLLOWING):
        what = f"{where} names {', '.join(sorted(unknown))} in `follows`, which are unknown"
        raise AskLessError("bad-layout", what, "name the groups: " + ", ".join(FOLLOWING))
    if "sql" not in known:
        raise AskLessError(
            "bad-layout", f"{where} has no group or field for the statement", "name it sql"
        )
    if called(layout.system) is None:
        raise AskLessError(
            "bad-layout",
            f"{where} has an unknown system {layout.system!r}",
            'as in: system = "mysql"',
        )
    return layout
