"""SQL of advice that a server refuses is not printed."""

from __future__ import annotations

import pytest

from askless.core.advice.rewriting.acceptable import acceptable

GOOD = "SELECT id FROM vessel WHERE id IN (:keys)"


@pytest.mark.parametrize(
    ("sql", "system", "expected"),
    [
        (GOOD, "mysql", GOOD),
        ("SELECT id FROM (", "postgresql", ""),
        ("SELECT id FROM vessel ORDER BY id OFFSET 20", "mysql", ""),
        ("SELECT id FROM vessel ORDER BY id OFFSET 20", "sqlite", ""),
        (
            "SELECT id FROM vessel ORDER BY id OFFSET 20",
            "postgresql",
            "SELECT id FROM vessel ORDER BY id OFFSET 20",
        ),
        ("SELECT * FROM (SELECT SQL_CALC_FOUND_ROWS id FROM vessel) AS t", "mysql", ""),
        (
            "SELECT COUNT(?) FROM vessel WHERE flag = ?",
            "postgresql",
            "SELECT COUNT(*) FROM vessel WHERE flag = ?",
        ),
        ("SELECT id FROM job WHERE (a, b) IN (VALUES :keys)", "sqlite", None),
        ("INSERT INTO job (a)\nVALUES (?), (?), ...", "sqlite", None),
        (GOOD + ";\n" + GOOD, "sqlite", None),
        ("", "sqlite", ""),
    ],
)
def test_what_is_refused_is_not_printed(sql: str, system: str, expected: str | None) -> None:
    assert acceptable(sql, system) == (sql if expected is None else expected)
