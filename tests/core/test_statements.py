"""What is run on someone's database is one SELECT that writes nothing; what is built is one index."""

from __future__ import annotations

import pytest
from hypothesis import given, strategies as st

from askless.core.errors import AskLessError
from askless.core.sql.functions import functions_in
from askless.core.sql.guarantees import question_of
from askless.core.sql.statements import checked_select, index_of, qualified_tables, tables_in

READS = [
    "SELECT * FROM vessel", "SELECT 1;", "WITH due AS (SELECT * FROM port_call) SELECT * FROM due",
    "SELECT 'insert into vessel' AS words", "SELECT id FROM vessel UNION SELECT id FROM berth", "(SELECT id FROM vessel)",
    "SELECT name AS into_the_wind FROM vessel WHERE name = ' into '",
]  # fmt: skip
WRITES = [
    "DELETE FROM vessel", "UPDATE vessel SET name = ''", "INSERT INTO vessel SELECT * FROM vessel", "DROP TABLE vessel",
    "SELECT 1; DELETE FROM vessel", "SELECT * INTO copied FROM vessel", "SELECT * FROM vessel INTO OUTFILE '/tmp/x'",
    "WITH gone AS (DELETE FROM vessel RETURNING id) SELECT * FROM gone", "SELECT * FROM vessel FOR UPDATE", "VACUUM",
    "SELECT * FROM (SELECT * FROM vessel FOR SHARE) v", "CALL tidy()", "", "not SQL (", "COPY vessel TO STDOUT", "SET x = 1",
]  # fmt: skip


@pytest.mark.parametrize("system", ["sqlite", "postgresql", "mysql"])
@pytest.mark.parametrize("sql", READS)
def test_reads_are_let_through(sql: str, system: str) -> None:
    assert checked_select(sql, system) is not None


@pytest.mark.parametrize("system", ["sqlite", "postgresql", "mysql"])
@pytest.mark.parametrize("sql", WRITES)
def test_what_may_write_is_refused(sql: str, system: str) -> None:
    with pytest.raises(AskLessError) as caught:
        checked_select(sql, system)
    assert caught.value.slug == "not-a-select" and caught.value.remedy


def test_tables_of_a_select() -> None:
    sql = "WITH due AS (SELECT * FROM port_call) SELECT * FROM due JOIN office.vessel v ON v.id = due.id ORDER BY 1"
    tree = checked_select(sql, "postgresql")
    assert (
        set(tables_in(tree)) == {"port_call", "vessel"}
        and qualified_tables(tree) == ("office.vessel",)
        and question_of(sql, sql, "postgresql", ["id"]).order is not None
    )


INDEXES = [
    ("CREATE INDEX n ON vessel (name)", "sqlite", ("n", "vessel", ("name",))),
    ("create unique index n on vessel (flag, name desc)", "postgresql", ("n", "vessel", ("flag", "name"))),
    ("CREATE INDEX ON vessel (name)", "postgresql", ("", "vessel", ("name",))),
    ("CREATE INDEX n ON vessel USING btree (name) INCLUDE (flag)", "postgresql", None),
    ("CREATE INDEX n ON vessel (name) WHERE flag = 'NO'", "postgresql", None),
    ("CREATE INDEX `n` ON `vessel` (`name`(10))", "mariadb", None),
]  # fmt: skip


@pytest.mark.parametrize("ddl, system, expected", INDEXES)
def test_an_index_is_read(
    ddl: str, system: str, expected: tuple[str, str, tuple[str, ...]] | None
) -> None:
    index = index_of(ddl, system)
    assert index.table == "vessel"
    if expected is not None:
        assert (index.name, index.table, index.columns) == expected


@pytest.mark.parametrize(
    "ddl",
    ["DROP INDEX n", "CREATE TABLE t (a INT)", "CREATE INDEX n ON vessel (name); DROP TABLE vessel", "", "nonsense",
     "CREATE INDEX CONCURRENTLY n ON vessel (name)", "CREATE VIEW v AS SELECT 1"],
)  # fmt: skip
def test_what_is_no_index(ddl: str) -> None:
    with pytest.raises(AskLessError) as caught:
        index_of(ddl, "postgresql")
    assert caught.value.slug == "not-an-index"


CALLS = [
    ("SELECT lower(name), count (*) FROM t", "sqlite", ("lower", "count")),
    ("SELECT 'now()', -- later()\n x /* f() */ FROM t", "sqlite", ()),
    ('SELECT "Sail away"(1), pg_catalog.random() FROM t', "postgresql", ("Sail away", "random")),
    ("SELECT `get`(1), NOW() FROM t WHERE a IN (1) AND b = 'IF(1)'", "mysql", ("get", "now", "in")),
    ("SELECT $$f()$$, g () FROM t", "postgresql", ("g",)),
]


@pytest.mark.parametrize("text, system, names", CALLS)
def test_functions_are_told_by_the_text(text: str, system: str, names: tuple[str, ...]) -> None:
    assert functions_in(text, system) == names


@given(st.text(max_size=60))
def test_any_text_may_be_asked_for_functions(text: str) -> None:
    assert all(isinstance(name, str) for name in functions_in(text, "postgresql"))
