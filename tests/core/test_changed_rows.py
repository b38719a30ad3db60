"""A write of MySQL's or MariaDB's is planned as the SELECT that finds its rows."""

from __future__ import annotations

import pytest

from askless.core.sql.changed_rows import select_of


@pytest.mark.parametrize(
    ("write", "select"),
    [
        ("UPDATE port_call SET status = %s WHERE id = %s", "SELECT *, status = %s FROM port_call WHERE id = %s"),
        ("update low_priority berth set a = a + 1, b = %s", "SELECT *, a = a + 1, b = %s FROM berth"),
        (
            "UPDATE port_call c JOIN vessel v ON v.id = c.vessel_id SET c.note = 'x SET y' WHERE v.flag = 'A' ORDER BY c.id LIMIT 3",
            "SELECT *, c.note = 'x SET y' FROM port_call c JOIN vessel v ON v.id = c.vessel_id WHERE v.flag = 'A' ORDER BY c.id LIMIT 3",
        ),
        ("DELETE FROM `order` WHERE `where` = %s LIMIT 5", "SELECT * FROM `order` WHERE `where` = %s LIMIT 5"),
        ("DELETE c FROM port_call c JOIN vessel v ON v.id = c.vessel_id WHERE v.id = %s", "SELECT * FROM port_call c JOIN vessel v ON v.id = c.vessel_id WHERE v.id = %s"),
        ("DELETE FROM c USING port_call c JOIN vessel v ON v.id = c.vessel_id", "SELECT * FROM port_call c JOIN vessel v ON v.id = c.vessel_id"),
        ("UPDATE berth SET a = (SELECT MAX(x) FROM quay WHERE y = 1) WHERE id IN (SELECT 3)", "SELECT *, a = (SELECT MAX(x) FROM quay WHERE y = 1) FROM berth WHERE id IN (SELECT 3)"),
        ("UPDATE berth b JOIN quay q ON q.id = %s SET b.a = %s", None),
        ("DELETE FROM berth WHERE id = 1 RETURNING id", None),
        ("SELECT * FROM berth", None),
        ("INSERT INTO berth (a) SELECT b FROM quay", None),
    ],
)  # fmt: skip
def test_a_write_as_the_select_that_finds_its_rows(write: str, select: str | None) -> None:
    assert select_of(write, "mysql") == select
