"""What equal rows do not prove: each is a doubt, and there is none where the text settles it."""

from __future__ import annotations

import pytest

from askless.core.sql.guarantees import caveats_of

KEYS = {"port_call": ("id",), "vessel": ("id",)}
BY_KEY = "SELECT id, eta FROM port_call WHERE id > 40 ORDER BY id LIMIT 20"
BY_OFFSET = "SELECT id, eta FROM port_call ORDER BY id LIMIT 20 OFFSET 40"


@pytest.mark.parametrize(
    ("sql", "system", "words"),
    [
        ("SELECT string_agg(agent, ', ') FROM port_call", "postgresql", "list"),
        ("SELECT array_agg(agent) FROM port_call", "postgresql", "list"),
        ("SELECT json_agg(agent) FROM port_call", "postgresql", "list"),
        ("SELECT GROUP_CONCAT(agent SEPARATOR ';') FROM port_call", "mysql", "list"),
        ("SELECT JSON_ARRAYAGG(agent) FROM port_call", "mysql", "list"),
        ("SELECT group_concat(agent) FROM port_call", "sqlite", "list"),
        ("SELECT string_agg(agent, ', ' ORDER BY agent) FROM port_call", "postgresql", ""),
        ("SELECT GROUP_CONCAT(agent ORDER BY id) FROM port_call", "mysql", ""),
        ("SELECT id, row_number() OVER (PARTITION BY vessel_id ORDER BY eta) FROM port_call", "postgresql", "tie"),
        ("SELECT id, row_number() OVER (ORDER BY eta, id) FROM port_call", "postgresql", ""),
        ("SELECT id, rank() OVER (ORDER BY eta) FROM port_call", "postgresql", ""),
        ("SELECT COUNT(*), MAX(eta) FROM port_call", "postgresql", ""),
    ],
)  # fmt: skip
def test_what_functions_leave_to_chance(sql: str, system: str, words: str) -> None:
    doubts = caveats_of(sql, sql, system, KEYS)
    assert len(doubts) == (2 if words else 0) and all(words in doubt for doubt in doubts)


def test_pages_by_offset_and_by_key_agree_only_without_gaps() -> None:
    for pair in ((BY_OFFSET, BY_KEY), (BY_KEY, BY_OFFSET)):
        (doubt,) = caveats_of(*pair, "postgresql", KEYS)
        assert "precede that key" in doubt
    assert caveats_of(BY_KEY, BY_KEY, "postgresql", KEYS) == ()
    assert caveats_of(BY_OFFSET, BY_OFFSET, "postgresql", KEYS) == ()
