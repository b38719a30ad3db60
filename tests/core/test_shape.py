"""Shapes: what varies is taken out, everything else stays."""

from __future__ import annotations

import pytest
from hypothesis import given, strategies as st

from askless.core.sql.shape import Shaper, shape_of, shape_text

SAME = [
    ("sqlite", "SELECT * FROM vessel WHERE id = 5", "select *\n from VESSEL where id=?;"),
    ("sqlite", "SELECT a FROM t WHERE x = 'it''s'", "SELECT a FROM t WHERE x = :name"),
    ("sqlite", "SELECT a FROM t WHERE x IN (1)", "SELECT a FROM t WHERE x IN (?, ?, NULL, -4.5e3)"),
    ("sqlite", "INSERT INTO t (a, b) VALUES (1, NULL)", "insert into t(a,b) values (?,?),(?,?)"),
    ("sqlite", "UPDATE t SET a = NULL WHERE b = 1", "UPDATE t SET a = 'x' WHERE b = 2"),
    ("sqlite", "SELECT a -- the 1st\n FROM t", "SELECT a FROM /* 'quoted' */ t"),
    ("sqlite", "SELECT a FROM t WHERE n = -5", "SELECT a FROM t WHERE n = 5"),
    ("sqlite", "SELECT a FROM t WHERE n = 0xFF", "SELECT a FROM t WHERE n = .5"),
    (
        "sqlite",
        "SELECT a FROM t WHERE (a, b) IN ((1, 2))",
        "SELECT a FROM t WHERE (a, b) IN ((1, 2), (3, 4))",
    ),
    ("postgresql", "SELECT a FROM t WHERE id = $1::INTEGER", "SELECT a FROM t WHERE id = %(pk_1)s"),
    (
        "postgresql",
        "SELECT a FROM t WHERE x = E'a\\'b' AND y = 1",
        "SELECT a FROM t WHERE x = $1 AND y = $2",
    ),
    ("postgresql", "SELECT a FROM t WHERE x = $tag$ it's $tag$", "SELECT a FROM t WHERE x = %s"),
    ("postgresql", "SELECT a /* one /* two */ still */ FROM t", "SELECT a FROM t"),
    ("mysql", 'SELECT a FROM t WHERE x = "it\\"s"', "SELECT a FROM t WHERE x = 'y\\'s'"),
    ("mysql", "SELECT a FROM t # rest\nWHERE b = 1", "SELECT a FROM t WHERE b = %s"),
]
DIFFERENT = [
    ("sqlite", 'SELECT "Name" FROM t', 'SELECT "Other" FROM t'),
    ("sqlite", "SELECT a1 FROM t", "SELECT a2 FROM t"),
    ("sqlite", "SELECT a FROM t WHERE b IS NULL", "SELECT a FROM t WHERE b IS NOT NULL"),
    ("sqlite", "SELECT a FROM t WHERE b = 1", "SELECT a FROM t WHERE b <> 1"),
    ("sqlite", "SELECT a FROM t1 WHERE b = 1", "SELECT a FROM t2 WHERE b = 1"),
    ("sqlite", "SELECT a FROM t LIMIT 10", "SELECT a FROM t LIMIT 10, 20"),
    ("sqlite", "SELECT coalesce(1)", "SELECT coalesce(1, 2)"),
    ("postgresql", "SELECT x::text FROM t", "SELECT x::date FROM t"),
    ("mysql", "SELECT `a b` FROM t", "SELECT `a c` FROM t"),
]
NOISE = ["BEGIN", "COMMIT;", "ROLLBACK", "SAVEPOINT sa_1", "PRAGMA main.table_info('x')", "SELECT 1", "SET search_path = x",
         "SELECT name FROM sqlite_schema", "select version()", "SHOW TABLES", "WITH x AS (SELECT 1) SELECT * FROM pg_catalog.pg_class, x",
         ";", "-- ping", "SELECT QUOTE(?), QUOTE(?)", "SELECT set_config('TimeZone', 'UTC', false)", "select pg_catalog.version()",
         "SELECT @@transaction_isolation", "SELECT 1 FROM DUAL", "SELECT pg_is_in_recovery()", "SELECT CONNECTION_ID()"]  # fmt: skip
ASKED = [
    "SELECT 1 FROM t",
    "UPDATE t SET a = 1",
    "SELECT * FROM settings",
    "FETCH 50 FROM cur",
    "SELECT begins FROM t",
    "DELETE FROM commits",
    "SELECT 1 AS one FROM t LIMIT 1",
    "SELECT 1 WHERE EXISTS (SELECT 1 FROM t)",
    "SELECT quote(name) FROM t",
    "SELECT set_config('harbour.tenant', id) FROM tenant",
]


@pytest.mark.parametrize("system, one, other", SAME)
def test_what_varies_is_taken_out(system: str, one: str, other: str) -> None:
    assert shape_of(one, system) == shape_of(other, system)


@pytest.mark.parametrize("system, one, other", DIFFERENT)
def test_what_matters_stays(system: str, one: str, other: str) -> None:
    assert shape_of(one, system).digest != shape_of(other, system).digest


@pytest.mark.parametrize("system, one, other", DIFFERENT)
def test_the_quick_way_tells_them_apart_too(system: str, one: str, other: str) -> None:
    shaper = Shaper(system)
    assert shaper.shape(one) != shaper.shape(other)


def test_noise_is_told_from_what_the_author_wrote() -> None:
    assert [text for text in NOISE if not shape_of(text, "postgresql").noise] == []
    assert [text for text in ASKED if shape_of(text, "postgresql").noise] == []


def test_a_cut_statement_still_has_a_shape() -> None:
    assert shape_of("SELECT a FROM t WHERE x = 'never clos").text == "select a from t where x = ?"


words = st.sampled_from(["SELECT", "a1", "t.b", '"Quoted Name"', "=", ",", "(", ")", "AND", "IN", "VALUES", "?", ":p", "12", "-3.5",
                         "'x''y'", "NULL", "/* c */", "-- d\n", "FROM", "*", ";", "`tick`", "$1", "LIMIT", "::int", ".5", "1.5e-3", "0xFE", "-1", "1.1.1", "t1"])  # fmt: skip
statements = st.lists(words, max_size=25).map(" ".join)
systems = st.sampled_from(["sqlite", "postgresql", "mysql"])


def test_a_cast_of_null_is_a_value() -> None:
    assert shape_text("SELECT id FROM vessel WHERE log = NULL :: text", "postgresql") == shape_text(
        "SELECT id FROM vessel WHERE log = 'x'::text", "postgresql"
    )


@given(statements, systems)
def test_a_shape_is_its_own_shape(text: str, system: str) -> None:
    once = shape_text(text, system)
    assert shape_text(once, system) == once


@given(statements, systems)
def test_the_quick_way_gives_what_the_close_look_gives(text: str, system: str) -> None:
    shaper = Shaper(system)
    assert shaper.shape(text) == shape_of(text, system)
    assert shaper.shape(text) == shape_of(text, system), "the same from its cache"


@given(st.text(), systems)
def test_any_text_has_a_shape(text: str, system: str) -> None:
    assert len(shape_of(text, system).digest) == 12


keys = st.one_of(st.integers(), st.text(alphabet="abc' é\n", max_size=12))


@given(keys, keys)
def test_queries_that_differ_by_a_key_have_one_shape(one: int | str, other: int | str) -> None:
    def statement(key: int | str) -> str:
        literal = str(key) if isinstance(key, int) else "'" + key.replace("'", "''") + "'"
        return f"SELECT id, name FROM vessel WHERE id = {literal} AND flag = 'NO' LIMIT 10"

    assert shape_of(statement(one)) == shape_of(statement(other))
    assert Shaper().shape(statement(one)) == Shaper().shape(statement(other))


HOSTILE = ["'" * 40_000, '"' * 40_001, "(" * 40_000, "/*" * 20_000, "--" * 20_000, "? , " * 20_000, "in(?," * 10_000, "$a$" * 15_000,
           "values(?),(" * 8_000, "x" * 100_000, "1." * 30_000, "\\'" * 20_000, "[" * 40_000, " \n" * 40_000, ":a" * 30_000, "- " * 40_000]  # fmt: skip


@pytest.mark.parametrize("text", HOSTILE, ids=range(len(HOSTILE)))
@pytest.mark.parametrize("system", ["sqlite", "postgresql", "mysql"])
def test_hostile_text_ends(text: str, system: str) -> None:
    """Nothing backtracks without end, and no shape grows far beyond its text."""
    assert 0 <= len(shape_text(text, system)) <= 2 * len(text)
    assert Shaper(system).shape(text) == shape_of(text, system)


def test_the_name_of_a_cursor_is_made_up_anew_each_time() -> None:
    for first, second in (
        ('DECLARE "_django_curs_140_sync_1" NO SCROLL CURSOR WITH HOLD FOR SELECT name FROM vessel WHERE id > 7',
         "DECLARE named_2 NO SCROLL CURSOR WITH HOLD FOR SELECT name FROM vessel WHERE id > 8"),
        ('FETCH FORWARD 2000 FROM "_django_curs_140_sync_1"', 'FETCH FORWARD 100 FROM "c_2"'),
        ("FETCH ALL IN c1", "fetch all in c2"),
        ('CLOSE "_django_curs_140_sync_1"', "CLOSE c2"),
    ):  # fmt: skip
        assert shape_text(first, "postgresql") == shape_text(second, "postgresql")
        assert shape_text(shape_text(first, "postgresql"), "postgresql") == shape_text(
            first, "postgresql"
        )
    tables = [
        shape_text(f"DECLARE c CURSOR FOR SELECT * FROM {table}", "postgresql")
        for table in ("vessel", "berth")
    ]
    assert len(set(tables)) == 2
