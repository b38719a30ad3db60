"""Routes by a part of their names, as `--route` gives it."""

from __future__ import annotations

from collections.abc import Collection
from difflib import get_close_matches
from pathlib import Path

from askless.core.errors import AskLessError


def check_route(text: str, names: Collection[str], capture: Path) -> None:
    """Raises AskLessError no-route if there are routes, and none of their names contains the
    text.
    """
    if not names or any(text in name for name in names):
        return
    listed = list(names)
    near = get_close_matches(text, listed, 3, 0.4) or listed[:3]
    raise AskLessError(
        "no-route",
        f"no route of {capture} contains {text!r}",
        f"the nearest are {', '.join(near)}; list them: askless requests {capture}",
    )
