"""Names in the room that a table has for them: shortened in the middle, whole where they fit."""

from __future__ import annotations

import pytest
from hypothesis import given, strategies as st

from askless.output.text import in_middle

PARTS = st.lists(st.text("abcé{}_", max_size=8), min_size=1, max_size=7)


@given(PARTS, st.integers(3, 60))
def test_a_name_keeps_its_ends_and_its_room(parts: list[str], longest: int) -> None:
    name = "GET /" + "/".join(parts)
    shown = in_middle(name, longest)
    assert len(shown) <= longest and (shown == name) == (len(name) <= longest)
    if shown != name:
        start, end = shown.split("…")
        assert name.startswith(start) and name.endswith(end) and len(start) + len(end) < len(name)


@pytest.mark.parametrize(
    "longest, shown",
    [
        (40, "GET /calls/{number}/manifest/check"),
        (33, "GET /calls/…/manifest/check"),
        (26, "GET /…/manifest/check"),
        (17, "GET /…/check"),
        (9, "GET…check"),
    ],
)
def test_parts_give_way_before_letters(longest: int, shown: str) -> None:
    assert in_middle("GET /calls/{number}/manifest/check", longest) == shown
