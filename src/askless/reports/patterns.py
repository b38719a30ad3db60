"""What each pattern is: its rule, and the page that says it at length (docs/patterns, which an
installation has as well).
"""

from __future__ import annotations

from pathlib import Path

import askless
from askless.core import patterns
from askless.core.errors import AskLessError
from askless.reports import documents

_INSTALLED = Path(askless.__file__).parent / "pages"
_CHECKOUT = Path(askless.__file__).parents[2] / "docs" / "patterns"


def every() -> documents.PatternsDocument:
    """All patterns, in the order in which they look."""
    return documents.PatternsDocument(
        format="askless patterns", patterns=tuple(map(_row, patterns.REGISTRY))
    )


def one(name: str) -> documents.PatternsDocument:
    """One pattern with its page. Raises AskLessError no-pattern."""
    if name not in patterns.REGISTRY:
        raise AskLessError("no-pattern", f"there is no pattern {name!r}", patterns.instead_of(name))
    return documents.PatternsDocument(
        format="askless patterns", patterns=(_row(name),), page=page_of(name)
    )


def page_of(name: str) -> str:
    """The page of a pattern, as Markdown. Raises AskLessError page-missing."""
    for folder in (_INSTALLED, _CHECKOUT):
        path = folder / f"{name}.md"
        if path.is_file():
            return path.read_text(encoding="utf-8")
    raise AskLessError(
        "page-missing", f"this installation has no page of {name}", "reinstall Ask Less"
    )


def _row(name: str) -> documents.PatternRow:
    rule = patterns.load([name])[0].rule
    return documents.PatternRow(
        name=rule.id,
        title=rule.title,
        flagged=rule.help,
        clean=rule.clean,
        severity=rule.severity,
        needs_use=rule.needs_use,
    )
