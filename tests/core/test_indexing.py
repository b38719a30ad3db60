"""The index advisor: one set for a workload, what it serves and costs, and what is never advised."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import pytest
import sqlglot
from hypothesis import example, given, settings, strategies as st

from askless.core.indexing.advisor import advise
from askless.core.indexing.eligibility import changed_in_place
from askless.core.indexing.redundancy import bare_foreign_keys, redundant_indexes
from askless.core.indexing.workload import IndexAdvice, Statement
from askless.core.records.index_ddl import create_index, drop_index, name_for
from askless.core.records.schema import ForeignKey, Index, Schema, Table, TableColumn
from askless.core.sql.structure import Predicate
from askless.core.sql.structure_store import structure_of

COLUMNS = [
    ("id", "INTEGER", 4, 60000.0), ("vessel_id", "INTEGER", 4, 4000.0), ("berth_id", "INTEGER", 4, 22.0),
    ("status", "VARCHAR(20)", 9, 4.0), ("eta", "TIMESTAMP", 8, 60000.0), ("agent", "VARCHAR(60)", 14, 12.0),
    ("remark", "TEXT", 900, 60000.0),
]  # fmt: skip


def schema(system: str = "postgresql", indexes: Sequence[Index] = (), rows: int = 60_000) -> Schema:
    call = Table(
        "port_call",
        tuple(
            TableColumn(name, type_, True, float(width), distinct)
            for name, type_, width, distinct in COLUMNS
        ),
        ("id",),
        (ForeignKey(("vessel_id",), "vessel"), ForeignKey(("berth_id",), "berth")),
        tuple(indexes),
        rows,
        rows * 1000,
    )
    vessel = Table("vessel", (TableColumn("id", "INT", False, 4.0, 4000.0), TableColumn("name", "VARCHAR(80)", True, 20.0, 4000.0)), ("id",), rows=4000, bytes=400_000)  # fmt: skip
    return Schema(system, (call, vessel))


def asked(
    sql: str, weight_ms: float = 1.0, share: float | None = None, **constants: str
) -> Statement:
    structure = structure_of(sql, "postgresql")
    assert structure is not None

    def shares(table: str, predicates: Sequence[Predicate]) -> float | None:
        return share

    return Statement(sql, structure, weight_ms, None, shares, constants)


def columns(found: Sequence[IndexAdvice]) -> list[tuple[str, ...]]:
    return [advice.columns for advice in found]


def test_an_index_that_nobody_would_feel_is_not_advised() -> None:
    """Six rows are touched before and after: that they come without reading the table is not a
    reason.
    """
    few = schema(indexes=[Index("by_vessel", ("vessel_id",))])
    look_up = asked("SELECT id, status FROM port_call WHERE vessel_id = ?", 20, share=6 / 60_000)
    assert advise([look_up], few) == []
    many = asked("SELECT id, status FROM port_call WHERE vessel_id = ?", 20, share=600 / 60_000)
    assert columns(advise([many], few)) == [("vessel_id", "id", "status")]


def test_one_set_serves_several_statements() -> None:
    workload = [
        asked("SELECT * FROM port_call WHERE vessel_id = ?", 5),
        asked("SELECT * FROM port_call WHERE vessel_id = ? ORDER BY eta DESC LIMIT 5", 20),
        asked("SELECT * FROM port_call WHERE vessel_id = ? AND eta > ?", 5),
    ]
    (advice,) = advise(workload, schema())
    assert advice.columns == ("vessel_id", "eta")
    assert {served.digest for served in advice.serves} == {
        statement.digest for statement in workload
    }
    best = next(served for served in advice.serves if "LIMIT" in served.digest)
    assert best.rows_before == 60_000 and best.rows_after <= 15
    assert advice.size_bytes > 60_000 * 12 and "no sort is needed" in advice.why


def test_what_exists_is_not_advised_again_and_what_becomes_redundant_is_named() -> None:
    workload = [asked("SELECT * FROM port_call WHERE vessel_id = ?")]
    there = schema(indexes=[Index("calls_of_vessel", ("vessel_id", "agent"))])
    assert advise(workload, there) == []
    partial = schema(indexes=[Index("some", ("vessel_id",), where="status = 'due'")])
    assert columns(advise(workload, partial)) == [("vessel_id",)], (
        "a partial index serves no lookup of all rows"
    )
    short = schema(indexes=[Index("calls_of_vessel", ("vessel_id",))])
    (advice,) = advise(
        [asked("SELECT * FROM port_call WHERE vessel_id = ? ORDER BY eta LIMIT 2", 9)], short
    )
    assert advice.columns == ("vessel_id", "eta") and advice.redundant == ("calls_of_vessel",)
    assert redundant_indexes(short) == []
    assert redundant_indexes(short, [advice]) == [("port_call", "calls_of_vessel", advice.name)]
    unique = schema(
        indexes=[Index("calls_of_vessel", ("vessel_id",)), Index("key", ("vessel_id",), True)]
    )
    assert redundant_indexes(unique) == [("port_call", "calls_of_vessel", "key")], (
        "a unique one has its own work"
    )
    assert redundant_indexes(there) == [] and redundant_indexes(schema()) == []


def test_small_tables_and_weak_conditions_get_none() -> None:
    sql = "SELECT * FROM port_call WHERE status = ?"
    assert advise([asked(sql, share=0.9)], schema()) == []
    assert columns(advise([asked(sql, share=0.001)], schema())) == [("status",)]
    assert advise([asked(sql, share=0.001)], schema(rows=500)) == []
    assert columns(advise([asked(sql, share=0.001)], schema(rows=900), whole=True)) == [
        ("status",)
    ], "all that is asked"
    assert advise([asked(sql, share=0.001)], schema(rows=90), whole=True) == []
    beside = msgspec.structs.replace(
        asked("SELECT * FROM port_call ORDER BY id", share=1.0), digest="other", weight_ms=1000.0
    )
    assert advise([asked(sql, share=0.001), beside], schema(rows=900), whole=True) == [], (
        "asked now and then"
    )
    assert advise([asked("SELECT * FROM nowhere WHERE a = ?")], schema()) == []


def test_writes_may_cost_more_than_an_index_gains() -> None:
    workload = [asked("SELECT * FROM port_call WHERE agent = ? AND eta > ?", 0.5, 0.01)]
    assert len(advise(workload, schema())) == 1
    assert advise(workload, schema(), lambda table, columns: 10_000) == []
    (advice,) = advise(workload, schema(), lambda table, columns: 3 if "eta" in columns else 0)
    assert advice.writes in (0, 3)


def test_an_index_that_holds_all_is_preferred_where_that_is_narrow() -> None:
    (narrow,) = advise(
        [asked("SELECT eta FROM port_call WHERE berth_id = ?", share=0.05)], schema()
    )
    assert (
        narrow.columns == ("berth_id", "eta") and "answers without reading the table" in narrow.why
    )
    wide = advise([asked("SELECT remark FROM port_call WHERE berth_id = ?", share=0.05)], schema())
    assert all("remark" not in advice.columns for advice in wide)


def test_a_constant_in_the_text_may_have_a_partial_index() -> None:
    statement = asked(
        "SELECT * FROM port_call WHERE status = 'due' ORDER BY eta LIMIT 9",
        5,
        0.002,
        status="status = 'due'",
    )
    (advice,) = advise([statement], schema())
    assert advice.partial.endswith("(eta) WHERE status = 'due'") and advice.columns[0] == "status"
    assert advise([statement], schema("mariadb"))[0].partial == "", "MariaDB has none"
    assert (
        not advice.guessed
        and advise([asked("SELECT * FROM port_call WHERE agent = ? AND eta = ?")], schema())[
            0
        ].guessed
    )


def test_joins_are_served_at_the_side_that_is_looked_up() -> None:
    sql = "SELECT c.* FROM vessel v JOIN port_call c ON c.vessel_id = v.id WHERE v.name = ?"
    found = columns(advise([asked(sql)], schema("mariadb")))
    assert ("vessel_id",) in found and ("name",) in {c[:1] for c in found}


def test_no_index_begins_with_the_primary_key() -> None:
    """It finds the one row already."""
    for sql in (
        "SELECT status FROM port_call WHERE id = ?",
        "SELECT id, status FROM port_call WHERE id > ? ORDER BY id LIMIT 50",
        "SELECT count(*) FROM port_call WHERE id > ? AND status = ?",
    ):
        assert all(one[0] != "id" for one in columns(advise([asked(sql, 50, 0.001)], schema())))


def test_what_an_index_carries_must_be_carried_by_the_one_that_serves_it() -> None:
    narrow = Index("narrow", ("vessel_id",), include=("status",))
    for other, redundant in (
        (Index("wide", ("vessel_id", "eta")), False),
        (Index("wide", ("vessel_id", "eta"), include=("status",)), True),
        (Index("wide", ("vessel_id", "status")), True),
    ):
        found = [name for _, name, _ in redundant_indexes(schema(indexes=[narrow, other]))]
        assert found == (["narrow"] if redundant else []), other
    sql = "SELECT * FROM port_call WHERE vessel_id = ? ORDER BY eta LIMIT 9"
    (advice,) = advise([asked(sql, 50, 0.001)], schema(indexes=[narrow]))
    assert advice.columns == ("vessel_id", "eta") and advice.redundant == ()


def test_foreign_keys_without_an_index() -> None:
    workload = [asked("SELECT * FROM port_call WHERE berth_id = ?")]
    keys = {key.columns: key for key in bare_foreign_keys(schema(), workload)}
    assert keys["berth_id",].shapes == (workload[0].digest,) and keys["vessel_id",].shapes == ()
    assert keys["vessel_id",].ddl == "CREATE INDEX port_call_vessel_id ON port_call (vessel_id)"
    there = schema(indexes=[Index("a", ("vessel_id", "eta")), Index("b", ("eta", "berth_id"))])
    assert [key.columns for key in bare_foreign_keys(there, [])] == [("berth_id",)]
    planned = advise([asked("SELECT * FROM port_call WHERE berth_id = ?", share=0.01)], there)
    assert bare_foreign_keys(there, [], planned) == []


CONDITIONS = st.lists(st.sampled_from(["vessel_id = ?", "berth_id IN (?, ?)", "status = 'due'", "eta > ?", "eta BETWEEN ? AND ?", "agent IS NULL", "lower(agent) = ?", "agent LIKE ?"]), max_size=4)  # fmt: skip
TAILS = st.sampled_from(
    ["", " ORDER BY eta", " ORDER BY eta DESC, id LIMIT 5", " ORDER BY status, eta DESC"]
)
OUTPUTS = st.sampled_from(["*", "id", "id, eta", "count(*)", "remark, status"])


@settings(max_examples=60)
@given(
    st.lists(st.tuples(OUTPUTS, CONDITIONS, TAILS), min_size=1, max_size=4),
    st.sampled_from(["sqlite", "postgresql", "mariadb"]),
)
@example([("*", ["status = 'due'", "vessel_id = ?"], ""), ("id", [], "")], "sqlite")
def test_any_workload_gets_a_sound_set(
    parts: list[tuple[str, list[str], str]], system: str
) -> None:
    """Columns of the table, no index that another one begins with, and none that no statement uses."""
    workload = []
    for output, conditions, tail in parts:
        where = " WHERE " + " AND ".join(conditions) if conditions else ""
        workload.append(
            asked(f"SELECT {output} FROM port_call{where}{tail if output != 'count(*)' else ''}")
        )
    found = advise(workload, schema(system))
    known = {name for name, *_ in COLUMNS}
    for advice in found:
        assert set(advice.columns) <= known and len(set(advice.columns)) == len(advice.columns) <= 4
        assert advice.serves and all(
            min(served.rows_before, served.rows_after) > 0 for served in advice.serves
        )
        assert sqlglot.parse_one(
            advice.ddl, read={"mariadb": "mysql", "postgresql": "postgres"}.get(system, system)
        )
    assert len({advice.name for advice in found}) == len(found)
    assert advise(workload, schema(system)) == found, "the same question gets the same answer"


@pytest.mark.parametrize("system, mark", [("postgresql", '"'), ("sqlite", '"'), ("mariadb", "`")])
def test_names_are_quoted_as_the_server_wants(system: str, mark: str) -> None:
    made = create_index("a b", "order", ["from", "eta", f"x{mark}y"], system)
    assert (
        made
        == f"CREATE INDEX {mark}a b{mark} ON {mark}order{mark} ({mark}from{mark}, eta, {mark}x{mark}{mark}y{mark})"
    )
    assert drop_index("n", "vessel", system) == (
        "DROP INDEX n ON vessel" if system == "mariadb" else "DROP INDEX n"
    )
    assert name_for("port_call", ["eta"], {"port_call_eta"}) == "port_call_eta_2"
    assert len(name_for("t" * 80, ["c" * 80])) <= 60


@pytest.mark.parametrize(
    "system, beginning",
    [("mysql", "(64)"), ("mariadb", "(64)"), ("postgresql", ""), ("sqlite", "")],
)
def test_a_long_text_is_indexed_by_its_beginning(system: str, beginning: str) -> None:
    columns = (
        TableColumn("id", "INTEGER"),
        TableColumn("log", "TEXT", distinct=9000),
        TableColumn("flag", "VARCHAR(2)", distinct=4),
    )
    office = Schema(system, (Table("vessel", columns, ("id",), (), (), 9000, 9_000_000),))
    (found,) = advise(
        [Statement("s", structure_of("SELECT id FROM vessel WHERE log = ?", system))], office
    )
    assert found.columns[0] == "log" and f"(log{beginning}" in found.ddl
    ordered = advise(
        [
            Statement(
                "s",
                structure_of("SELECT id FROM vessel WHERE flag = ? ORDER BY log LIMIT 5", system),
            )
        ],
        office,
    )
    assert not beginning or all("log" not in advice.columns for advice in ordered), (
        "a beginning is no order"
    )


def test_the_sides_of_an_or_get_an_index_each() -> None:
    columns = (
        TableColumn("id", "INTEGER"),
        *(TableColumn(name, "VARCHAR(20)", distinct=9000) for name in ("name", "sign", "flag")),
    )
    office = Schema("postgresql", (Table("vessel", columns, ("id",), (), (), 9000, 9_000_000),))

    def of(where: str) -> set[tuple[str, ...]]:
        statement = Statement(
            "s", structure_of(f"SELECT * FROM vessel WHERE {where}", "postgresql")
        )
        return {advice.columns for advice in advise([statement], office)}

    assert of("name = $1 OR sign = $2") == {("name",), ("sign",)}
    assert of("id = $1 OR sign = $2") == {("sign",)}, "the other side has its key"
    assert of("(name = $1 AND flag > $3) OR (sign = $2)") == {("name",), ("sign",)}
    assert of("name = $1 OR lower(sign) = $2") == set(), "all rows are looked at for one side"
    assert of("name = $1 OR id < id") == set()
    (one, other) = advise(
        [
            Statement(
                "s", structure_of("SELECT * FROM vessel WHERE name = $1 OR sign = $2", "postgresql")
            )
        ],
        office,
    )
    assert "one side of an OR by name, in addition to an index on sign" in one.why + other.why


@pytest.mark.parametrize(
    "sql, columns",
    [
        (
            "SELECT v.id, (SELECT count(*) FROM tug_job j WHERE j.tug = v.id) FROM vessel v WHERE v.id < $1",
            ("tug",),
        ),
        (
            "SELECT v.id FROM vessel v WHERE EXISTS (SELECT 1 FROM tug_job WHERE tug_job.tug = v.id) AND v.id = $1",
            ("tug",),
        ),
        (
            "SELECT id FROM vessel WHERE id IN (SELECT vessel FROM tug_job WHERE master = $1)",
            ("master",),
        ),
        (
            "SELECT id FROM vessel WHERE id = $1 UNION ALL SELECT id FROM tug_job WHERE master = $2",
            ("master",),
        ),
    ],
)
def test_what_a_subquery_looks_up_gets_its_index(sql: str, columns: tuple[str, ...]) -> None:
    job = (
        TableColumn("id", "INTEGER"),
        *(TableColumn(name, "INTEGER", distinct=3000) for name in ("tug", "vessel", "master")),
    )
    tables = (
        Table("vessel", (TableColumn("id", "INTEGER"),), ("id",), rows=3000, bytes=300_000),
        Table("tug_job", job, ("id",), rows=30_000, bytes=3_000_000),
    )
    found = advise([Statement("s", structure_of(sql, "postgresql"))], Schema("postgresql", tables))
    assert [(advice.table, advice.columns[: len(columns)]) for advice in found] == [
        ("tug_job", columns)
    ]


KINDS = ["gin", "hash", "descending", "operator class", "collation", "prefix"]


@pytest.mark.parametrize("kind", KINDS)
def test_only_plain_indexes_are_judged(kind: str) -> None:
    """An index of another kind serves what a plain one of the same columns does not, and the other
    way round.
    """
    columns = (
        TableColumn("id", "INTEGER"),
        TableColumn("name", "TEXT"),
        TableColumn("flag", "TEXT"),
    )
    special, longer = Index("a_special", ("name",), kind=kind), Index("b_longer", ("name", "flag"))
    plain = Index("a_plain", ("name",))

    def judged(*indexes: Index) -> list[tuple[str, str, str]]:
        return redundant_indexes(
            Schema("postgresql", (Table("vessel", columns, ("id",), (), indexes, 9000),))
        )

    assert (
        judged(special, longer) == []
        and judged(plain, Index("b_special", ("name", "flag"), kind=kind)) == []
    )
    assert judged(plain, longer) == [("vessel", "a_plain", "b_longer")]


def test_what_is_to_go_serves_nobody() -> None:
    columns = (
        TableColumn("id", "INTEGER"),
        TableColumn("name", "TEXT"),
        TableColumn("flag", "TEXT"),
    )
    chain = (
        Index("a", ("name",)),
        Index("b", ("name", "flag")),
        Index("c", ("name", "flag", "id")),
    )
    found = redundant_indexes(
        Schema("sqlite", (Table("vessel", columns, ("id",), (), chain, 9000),))
    )
    assert {index for _, index, _ in found} == {"a", "b"} and {by for _, _, by in found} == {"c"}


@pytest.mark.parametrize("system", ["postgresql", "sqlite", "mariadb"])
def test_a_write_is_never_answered_by_an_index_alone(system: str) -> None:
    """An UPDATE goes to its row: an index that holds what it changes makes it dearer, and serves it
    in nothing.
    """
    update = asked("UPDATE port_call SET status = ?, berth_id = ? WHERE id = ?", 50)
    assert advise([update], schema(system)) == []
    (advice,) = advise([asked("DELETE FROM port_call WHERE eta = ?", 50, 1e-4)], schema(system))
    assert advice.columns == ("eta",) and "without reading the table" not in advice.why


@pytest.mark.parametrize("text", ["vessel_id = ANY(?)", "vessel_id IN (?, ?)", "vessel_id = ?"])
def test_a_list_of_keys_is_looked_up_like_a_key(text: str) -> None:
    assert columns(
        advise([asked(f"SELECT * FROM port_call WHERE {text}", 20, 1e-3)], schema())
    ) == [("vessel_id",)]


def typed(table: str, **types: str) -> Table:
    columns = tuple(TableColumn(name, type_, True, 9.0, 9000.0) for name, type_ in types.items())
    return Table(table, (TableColumn("id", "INTEGER", False, 4.0), *columns), ("id",), rows=60_000, bytes=60_000_000)  # fmt: skip


@pytest.mark.parametrize(
    ("system", "type_", "kind"),
    [
        ("postgresql", "VARCHAR(40)", ""),
        ("postgresql", "TEXT", "hash"),
        ("postgresql", "VARCHAR", "hash"),
        ("postgresql", "BYTEA", "hash"),
        ("postgresql", "VARCHAR(5000)", "hash"),
        ("postgresql", "JSON", None),
        ("sqlite", "TEXT", ""),
        ("mysql", "TEXT", ""),
        ("mysql", "VARCHAR(1000)", ""),
        ("mysql", "JSON", None),
        ("mssql", "VARCHAR(max)", None),
    ],
)
def test_no_index_refuses_a_long_value_later(system: str, type_: str, kind: str | None) -> None:
    known = Schema(system, (typed("vessel", note=type_),))
    found = advise([asked("SELECT * FROM vessel WHERE note = ?", share=1e-4)], known)
    assert [one.kind for one in found] == ([] if kind is None else [kind])
    if kind == "hash":
        assert found[0].ddl == "CREATE INDEX vessel_note ON vessel USING hash (note)"
        ranges = asked("SELECT * FROM vessel WHERE note > ? ORDER BY note LIMIT 9", share=1e-4)
        assert advise([ranges], known) == [], "a hash has no order"
    elif found and system == "mysql":
        assert found[0].ddl.endswith("(note(64))")


def test_several_long_columns_are_not_too_long_together() -> None:
    long = dict.fromkeys(("a", "b", "c", "d"), "VARCHAR(255)")
    sql = "SELECT * FROM vessel WHERE a = ? AND b = ? AND c = ? ORDER BY d LIMIT 9"
    for system, most in (("mysql", 3), ("postgresql", 4)):
        (one,) = advise([asked(sql, share=1e-2)], Schema(system, (typed("vessel", **long),)))
        assert len(one.columns) <= most, system


def test_what_is_updated_in_place_gets_no_index() -> None:
    sql = "SELECT * FROM port_call WHERE status = ?"

    def updated(table: str) -> frozenset[str]:
        return frozenset({"status"}) if table == "port_call" else frozenset()

    workload = [asked(sql, share=0.001)]
    assert advise(workload, schema(), updated=updated) == []
    assert changed_in_place(workload, schema(), updated) == ["port_call.status"]
    for known in (schema("mysql"), schema("sqlite")):
        assert len(advise(workload, known, updated=updated)) == 1
        assert changed_in_place(workload, known, updated) == []
    there = schema(indexes=[Index("by_eta", ("eta", "status"))])
    assert len(advise(workload, there, updated=updated)) == 1, (
        "such an update is of all indexes now"
    )


def test_an_index_that_holds_all_must_pay() -> None:
    few = advise(
        [asked("SELECT eta FROM port_call WHERE vessel_id = ?", share=4 / 60_000)], schema()
    )
    assert columns(few) == [("vessel_id",)]
    link = Table("crew", tuple(TableColumn(n, "INTEGER", False, 4.0, 900.0) for n in ("id", "a", "b", "c", "d")), ("id",), rows=60_000, bytes=9_000_000)  # fmt: skip
    copy = advise(
        [asked("SELECT a, b, c, d FROM crew WHERE a = ?", share=0.1)], Schema("postgresql", (link,))
    )
    assert all(len(one.columns) < 4 for one in copy)


def test_a_few_of_many_queries_get_no_index_unless_they_are_slow() -> None:
    rare = asked("SELECT * FROM port_call WHERE agent = ?", 3, share=0.001)
    often = asked("SELECT * FROM vessel WHERE id = ?", 997)
    assert advise([rare, often], schema()) == []
    for workload in ([rare], [msgspec.structs.replace(rare, each_ms=900.0), often]):
        assert columns(advise(workload, schema())) == [("agent",)]


def test_effects_know_what_is_skipped_sorted_in_runs_and_left_unread() -> None:
    page = asked("SELECT * FROM port_call ORDER BY eta LIMIT 20 OFFSET 5000", share=1.0)
    (one,) = advise([page], schema())
    assert one.serves[0].rows_after == 5020
    runs = schema(indexes=[Index("by_vessel", ("vessel_id",))])
    sorted_ = asked("SELECT * FROM port_call ORDER BY vessel_id, eta LIMIT 20", share=1.0)
    other = schema("mysql", [Index("by_vessel", ("vessel_id",))])
    read = [advise([sorted_], known)[0].serves[0].rows_before for known in (runs, other)]
    assert read == [20 + 15, 60_000], "fifteen rows of a vessel are sorted at a time"
    month = asked("SELECT * FROM port_call WHERE eta > ? AND agent = ?", share=1e-4)
    whole, parted = schema(), schema()
    parted = msgspec.structs.replace(
        parted,
        tables=(
            msgspec.structs.replace(parted.tables[0], partitioned_by=("eta",), partitions=12),
            parted.tables[1],
        ),
    )
    before = [advise([month], known)[0].serves[0].rows_before for known in (whole, parted)]
    assert before == [60_000, 5_000]


def test_the_index_that_a_table_lies_in_the_order_of_stays() -> None:
    longer = Index("longer", ("vessel_id", "eta"))
    for kind, gone in (("clustered", []), ("", [("port_call", "short", "longer")])):
        assert (
            redundant_indexes(schema(indexes=[Index("short", ("vessel_id",), kind=kind), longer]))
            == gone
        )
