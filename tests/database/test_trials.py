"""Trials on each database: an index, a rewritten statement, a finding's lookups, and the parts of a
statement.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import HARBOUR, Ran, findings, refused, run
from tests.database.conftest import Office

Captured = Callable[[Office], Path]
Rewrite = Callable[..., Ran]
CALLS = "SELECT b.id, b.name, count(c.id) AS calls FROM berth b LEFT JOIN port_call c ON c.berth_id = b.id GROUP BY b.id, b.name"


@pytest.fixture
def rewrite(office: Office, tmp_path: Path) -> Rewrite:
    """Try one statement against another."""

    def tried(before: str, after: str, *words: object) -> Ran:
        (tmp_path / "before.sql").write_text(before)
        (tmp_path / "after.sql").write_text(after)
        return run(
            "trial",
            *words,
            "--db",
            office.url,
            "--before",
            tmp_path / "before.sql",
            "--after",
            tmp_path / "after.sql",
        )

    return tried


SAME = [
    (CALLS, "SELECT b.id, b.name, (SELECT count(*) FROM port_call c WHERE c.berth_id = b.id) AS calls FROM berth b"),
    ("SELECT id, eta FROM port_call WHERE berth_id IN (1, 2) ORDER BY eta, id", "SELECT id, eta FROM port_call WHERE berth_id = 1 OR berth_id = 2 ORDER BY eta, id"),
    ("SELECT status, count(*) AS n FROM port_call GROUP BY status", "SELECT status, sum(1.0) AS n FROM port_call GROUP BY status"),
    ("SELECT id, length_m FROM vessel WHERE id < 50", "SELECT id, length_m * 1.0 AS length_m FROM vessel WHERE id < 50 ORDER BY id DESC"),
    ("SELECT avg(draught_m) AS d FROM port_call", "SELECT sum(draught_m) / count(draught_m) AS d FROM (SELECT draught_m FROM port_call ORDER BY eta) x"),
    ("SELECT status, id FROM port_call WHERE id < 300 ORDER BY status", "SELECT status, id FROM port_call WHERE id < 300 ORDER BY status, id DESC"),
]  # fmt: skip


@pytest.mark.parametrize("before, after", SAME)
def test_equal_results_are_called_equal(before: str, after: str, rewrite: Rewrite) -> None:
    ran = rewrite(before, after, "--json")
    assert ran.code == 0, ran.out + ran.err
    assert (
        ran.json["same_result"]
        and ran.json["repetitions"] >= 7
        and ran.json["ratio"]["low"] <= ran.json["ratio"]["value"]
    )


OTHER = [
    ("lost parents", CALLS, CALLS.replace("LEFT JOIN", "JOIN"), "make it a LEFT JOIN"),
    ("repeated parents", "SELECT b.id FROM berth b", "SELECT b.id FROM berth b JOIN port_call c ON c.berth_id = b.id WHERE c.id < 100 UNION ALL SELECT id FROM berth", "a to-many join repeats its parent"),
    ("repeats gone", "SELECT status FROM port_call", "SELECT DISTINCT status FROM port_call", "removes rows that the first statement returned"),
    ("order", "SELECT id FROM vessel ORDER BY id", "SELECT id FROM vessel ORDER BY id DESC", "ORDER BY is missing or different"),
    ("order by chance", "SELECT id FROM vessel ORDER BY id", "SELECT id FROM vessel", "ORDER BY is missing"),
    ("columns of nothing", "SELECT id FROM berth WHERE id < 0", "SELECT id, name FROM berth WHERE id < 0", "column lists differ"),
    ("no order", "SELECT id FROM berth ORDER BY length_m, id", "SELECT id FROM berth ORDER BY depth_m", "ORDER BY"),
    ("null and zero", "SELECT b.id, count(c.id) AS n FROM berth b LEFT JOIN port_call c ON c.berth_id = b.id GROUP BY b.id", "SELECT b.id, sum(c.id / c.id) AS n FROM berth b LEFT JOIN port_call c ON c.berth_id = b.id GROUP BY b.id", "NULL on one side and 0 on the other"),
    ("decimals", "SELECT id, length_m FROM vessel WHERE id < 9", "SELECT id, length_m + 0.001 AS length_m FROM vessel WHERE id < 9", "after the decimal point"),
    ("a text", "SELECT id, minutes FROM tug_job WHERE id < 9", "SELECT id, CAST(minutes AS CHAR(9)) AS minutes FROM tug_job WHERE id < 9", "a text on one side and a number on the other"),
]  # fmt: skip


@pytest.mark.parametrize("name, before, after, cause", OTHER, ids=[case[0] for case in OTHER])
def test_other_results_are_never_called_equal(
    name: str, before: str, after: str, cause: str, rewrite: Rewrite
) -> None:
    ran = rewrite(before, after, "--json")
    assert ran.code == 1 and ran.err == "", ran.err
    found = ran.json
    assert not found["same_result"] and cause in found["cause"], found["cause"]
    assert found["ratio"] is None and found["verdict"]["outcome"] == "changed"
    assert "first difference" in rewrite(before, after).out


def test_what_today_does_not_show_is_said(rewrite: Rewrite) -> None:
    def remarks(before: str, after: str) -> str:
        ran = rewrite(before, after, "--json")
        assert ran.code == 0 and ran.json["same_result"], ran.out + ran.err
        return " ".join(ran.json["remarks"])

    ordered = "SELECT id, name FROM berth ORDER BY id LIMIT 3"
    assert remarks(ordered, ordered) == ""
    chance = remarks("SELECT id FROM berth LIMIT 3", "SELECT id FROM berth LIMIT 3")
    assert "the first statement has a LIMIT without ORDER BY" in chance and "the second" in chance
    ties = "SELECT status FROM port_call ORDER BY status LIMIT 3"
    assert "its order is not unique" in remarks(ties, ties)
    other = remarks("SELECT id FROM vessel ORDER BY id", "SELECT id FROM vessel ORDER BY id + 0")
    assert "that is not guaranteed" in other
    hidden = "SELECT status FROM port_call ORDER BY {}"
    assert remarks(hidden.format("berth_id"), hidden.format("berth_id, id")) == "", (
        "ties of a column that is not shown"
    )
    assert "on today's rows" in rewrite(ordered, ordered).out
    nothing = "SELECT id FROM berth WHERE id < 0"
    refused(rewrite(nothing, nothing), "neither statement returns rows", "--parameters")


def test_sums_that_cancel_differ_by_the_order_of_adding(rewrite: Rewrite) -> None:
    """Numbers of 10^16 that cancel leave a sum whose last digits are all of it."""
    large = "SELECT draught_m * CASE WHEN id % 2 = 0 THEN 1e16 ELSE -1e16 END AS x FROM port_call WHERE id"
    halves = [f"{large} <= 1500", f"{large} > 1500"]

    def summed(first: str, second: str, more: str = "") -> str:
        return f"SELECT sum(x){more} FROM ({first} UNION ALL {second}) t"

    ran = rewrite(summed(*halves), summed(*reversed(halves)), "--json")
    assert ran.code == 0 and ran.json["same_result"], ran.out + ran.err
    other = rewrite(summed(*halves), summed(*reversed(halves), " * 1.000001"), "--json")
    assert other.code == 1 and not other.json["same_result"]


def test_a_look_up_for_another_reason_is_none_of_the_findings(
    office_of: Callable[..., Office], tmp_path: Path
) -> None:
    """Who is logged in is looked up by the same statement as those who the page lists."""
    office = office_of("sqlite")
    script = tmp_path / "page.py"
    script.write_text(f"""
import sys
sys.path.insert(0, {str(HARBOUR)!r})
import askless
from models import PortCall, Vessel
from sqlalchemy import create_engine, select
from sqlalchemy.orm import Session
engine = create_engine({office.url!r})
with Session(engine) as session, askless.request("calls"):
    calls = session.scalars(select(PortCall).order_by(PortCall.id).limit(20)).all()
    listed = {{call.vessel_id for call in calls}}
    other = next(n for n in range(1, 400) if n not in listed)
    session.scalars(select(Vessel).where(Vessel.id == other)).one()
    [call.vessel.name for call in calls]
""")
    ran = run("capture", "app", "-o", tmp_path / "c", "--", sys.executable, script)
    assert ran.code == 0, ran.err
    (found,) = [one for one in findings(tmp_path / "c") if one["pattern"] == "n-plus-one"]
    trial = run(
        "trial", tmp_path / "c", "--finding", found["key"], "--db", office.url, "--json"
    ).json
    assert (
        all(alternative["same_result"] for alternative in trial["alternatives"])
        and len(trial["alternatives"]) == 3
    ), trial["alternatives"]


# Before and after, equal on today's rows; what must be planted to see that they are not the same.
HARDER = [
    ("SELECT name FROM berth", "SELECT DISTINCT name FROM berth", "rows of berth like others"),
    ("SELECT v.id FROM vessel v WHERE v.id IN (SELECT vessel_id FROM port_call) OR v.id > 0",
     "SELECT DISTINCT v.id FROM vessel v JOIN port_call c ON c.vessel_id = v.id OR v.id IN (SELECT vessel_id FROM port_call)",
     "without children|no rows in port_call"),
    ("SELECT count(*) AS n FROM tug_job", "SELECT count(*) AS n FROM tug_job HAVING count(*) > 0", "no rows in tug_job"),
    ("SELECT id FROM port_call ORDER BY id LIMIT 20 OFFSET 20", "SELECT id FROM port_call WHERE id > 20 ORDER BY id LIMIT 20", "gaps in the keys of port_call"),
    ("SELECT count(*) AS n FROM (SELECT rank() OVER (ORDER BY name) AS place FROM vessel) x WHERE place <= 4",
     "SELECT count(*) AS n FROM (SELECT row_number() OVER (ORDER BY name) AS place FROM vessel) x WHERE place <= 4",
     "rows of vessel like others|equal name in rows of vessel"),
]  # fmt: skip


@pytest.mark.parametrize("before, after, planted", HARDER)
def test_harder_data_shows_what_todays_rows_hide(
    before: str, after: str, planted: str, rewrite: Rewrite, office: Office
) -> None:
    easy = rewrite(before, after, "--json")
    assert easy.code == 0 and easy.json["same_result"], easy.out + easy.err
    state = (
        office.state()
        if office.server is not None
        else Path(office.url.removeprefix("sqlite:///")).read_bytes()
    )
    hard = rewrite(before, after, "--synthetic-rows", "--json")
    assert hard.code == 1 and not hard.json["same_result"], hard.out + hard.err
    assert hard.json["difference"].startswith("with ") and any(
        words in hard.json["difference"] for words in planted.split("|")
    )
    assert state == (
        office.state()
        if office.server is not None
        else Path(office.url.removeprefix("sqlite:///")).read_bytes()
    )


def test_rows_stored_in_another_order_show_an_order_that_is_a_coincidence(
    rewrite: Rewrite, office: Office
) -> None:
    ordered = "SELECT max(x.id) AS last FROM (SELECT id FROM vessel ORDER BY id LIMIT 5) x"
    hard = rewrite(ordered, ordered.replace(" ORDER BY id", ""), "--synthetic-rows", "--json")
    by_key = office.url.startswith(("mysql", "mariadb"))
    assert hard.json["same_result"] is by_key, "their rows are stored in the order of the key"
    if not by_key:
        assert "the rows of vessel stored in the reverse order" in hard.json["difference"]


def test_what_the_first_statement_leaves_open_is_no_difference(
    rewrite: Rewrite, office: Office
) -> None:
    """Which of two calls of one time is the last on the page, nobody asked for."""
    first = "SELECT id, eta FROM port_call ORDER BY eta LIMIT 7"
    second = first.replace("ORDER BY eta", "ORDER BY eta, id DESC")
    hard = rewrite(first, second, "--synthetic-rows", "--json")
    assert hard.code == 0 and hard.json["same_result"], hard.out + hard.err
    assert [note for note in hard.json["remarks"] if "depend on how the table is stored" in note]
    if not office.url.startswith(("mysql", "mariadb")):  # can't store rows in another order
        other = "SELECT id, eta FROM port_call ORDER BY id LIMIT 7"
        assert not rewrite(first, other, "--synthetic-rows", "--json").json["same_result"]


def test_copies_stand_before_the_tables_whatever_the_path(
    office_of: Callable[..., Office], tmp_path: Path
) -> None:
    """A role whose path names temporary tables last would have its own tables found first, and
    changed.
    """
    office = office_of("postgresql")
    (tmp_path / "before.sql").write_text("SELECT name FROM berth")
    (tmp_path / "after.sql").write_text("SELECT DISTINCT name FROM berth")
    files = ("--before", tmp_path / "before.sql", "--after", tmp_path / "after.sql")
    office.ask(
        "CREATE FUNCTION touched() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RAISE EXCEPTION ''the live table''; END'"
    )
    office.ask(
        "CREATE TRIGGER berth_touched BEFORE INSERT OR DELETE ON berth EXECUTE FUNCTION touched()"
    )
    office.ask("ALTER ROLE harbour SET search_path = public, pg_temp")
    try:
        found = run("trial", "--db", office.url, *files, "--synthetic-rows", "--json").json
    finally:
        office.ask("ALTER ROLE harbour RESET search_path")
        office.ask("DROP TRIGGER berth_touched ON berth")
        office.ask("DROP FUNCTION touched")
    assert found["difference"].startswith("with rows of berth"), found["difference"]


def test_what_is_the_same_with_harder_data_too(rewrite: Rewrite) -> None:
    counted = "SELECT b.id, b.name, (SELECT count(*) FROM port_call c WHERE c.berth_id = b.id) AS calls FROM berth b"
    ran = rewrite(CALLS, counted, "--synthetic-rows")
    assert (
        ran.code == 0
        and "also the same on private copies" in ran.out
        and "NULL as berth_id" in ran.out
    ), ran.out + ran.err
    document = rewrite(CALLS, counted, "--synthetic-rows", "--json").json
    assert any(words.startswith("no rows in port_call") for words in document["synthetic_rows"])
    assert "no rows in berth" not in document["synthetic_rows"], "calls refer to them"
    index = ("--index", "CREATE INDEX n ON berth (name)", "--sql", "SELECT 1 FROM berth")
    refused(
        run("trial", "--db", "sqlite:///x.db", *index, "--synthetic-rows"),
        "--synthetic-rows compares two statements",
    )


def test_a_statement_that_never_gives_the_same_again(rewrite: Rewrite, office: Office) -> None:
    function = "rand()" if office.system == "mariadb" else "random()"
    text = f"SELECT id, {function} AS lot FROM berth"
    refused(rewrite(text, text), f"it calls {function[:-2]}", "without that")


def test_times_of_different_zones(office_of: Callable[..., Office], tmp_path: Path) -> None:
    office = office_of("postgresql")

    def tried(before: str, after: str) -> Any:
        for name, text in (("before.sql", before), ("after.sql", after)):
            (tmp_path / name).write_text(f"SELECT id, {text} AS eta FROM port_call WHERE id < 9")
        words = ["--before", tmp_path / "before.sql", "--after", tmp_path / "after.sql"]
        return run("trial", "--db", office.url, *words, "--json").json

    assert tried("eta AT TIME ZONE 'UTC'", "(eta + interval '2 hours') AT TIME ZONE 'Etc/GMT-2'")[
        "same_result"
    ]
    assert "with a time zone on one side only" in tried("eta", "eta AT TIME ZONE 'UTC'")["cause"]
    assert "another time zone" in tried("eta", "eta + interval '2 hours'")["cause"]


def test_values_come_from_the_capture(
    office: Office, capture_of: Captured, rewrite: Rewrite
) -> None:
    capture = capture_of(office)
    rows = run("plan", capture, "--db", office.url, "--top", 40, "--json").json["statements"]
    before = next(row["sql"] for row in rows if "FROM tug_job" in row["sql"])
    mark = {"sqlite": "?", "postgresql": "%(param_1)s", "mariadb": "%(param_1)s"}[office.system]
    after = f"SELECT * FROM (SELECT * FROM tug_job WHERE port_call_id = {mark}) j ORDER BY j.id"
    found = rewrite(before, after, capture, "--json").json
    assert found["same_result"] and found["sets"] >= 3 and found["before"]["rows"] > 0, found
    refused(
        rewrite(before, after),
        "--before: the statement has 1 placeholder without a value",
        "a capture",
    )
    refused(
        rewrite("SELECT 1 WHERE 1 = ?", "SELECT 1", capture),
        "no query of the original statement's shape",
    )
    refused(rewrite(before, "SELECT 1", capture), "can't be matched")
    few = rewrite("SELECT id FROM berth WHERE id = ?", "SELECT id FROM berth WHERE id = ? + 0", "--parameters", "[3]", "--parameters", "[4]", "--json")  # fmt: skip
    assert few.json["sets"] == 2 and few.json["before"]["rows"] == 2


def test_a_difference_with_one_set_of_values_is_found_and_kept_private(
    office: Office, capture_of: Captured, rewrite: Rewrite
) -> None:
    before, after = (
        "SELECT name FROM berth WHERE id = ?",
        "SELECT name FROM berth WHERE id = ? AND id <> 4",
    )
    ran = rewrite(before, after, "--parameters", "[3]", "--parameters", "[4]")
    assert ran.code == 1 and "set 2 of 2" in ran.out and "lost:   ('Quay 4')" in ran.out
    capture = capture_of(office)
    hidden = rewrite(before, after, capture, "--parameters", "[4]")
    assert hidden.code == 1 and "Quay 4" not in hidden.out
    assert "Quay 4" in rewrite(before, after, capture, "--parameters", "[4]", "--values").out


def test_an_index_on_each_database(office_of: Callable[..., Office], office: Office) -> None:
    large = office_of(office.system, "harbour_large")
    before = large.state() if large.server is not None else None
    ran = run("trial", "--db", large.url, "--index", "CREATE INDEX signs ON vessel (call_sign)", "--sql", "SELECT * FROM vessel WHERE call_sign = ?", "--parameters", '["H00042"]', "--json")  # fmt: skip
    assert ran.code == 0, ran.err
    (row,) = ran.json["statements"]
    assert (
        row["uses_index"]
        and row["same_result"]
        and row["rows"] == 1
        and ran.json["size_bytes"] > 10_000
    )
    assert row["plan_before"][0]["kind"] == "full scan" and row["plan_after"][0]["index"] == "signs"
    units = {"sqlite": "machine steps", "postgresql": "blocks of 8 KiB", "mariadb": "handler reads"}
    assert (
        row["work_unit"] == units[office.system]
        and row["work"]["before"] > 5 * row["work"]["after"]
    )
    assert before is None or large.state() == before


def test_a_hash_index_as_it_is_advised(office_of: Callable[..., Office]) -> None:
    large = office_of("postgresql", "harbour_large")
    before = large.state()
    for sql, used in (
        ("SELECT name FROM vessel WHERE call_sign = 'H00042'", True),
        ("SELECT name FROM vessel WHERE call_sign > 'H00042' ORDER BY call_sign", False),
    ):
        words = ("--index", "CREATE INDEX signs ON vessel USING hash (call_sign)", "--sql", sql)
        ran = run("trial", "--db", large.url, *words, "--json")
        (row,) = ran.json["statements"]
        assert row["same_result"] and row["uses_index"] is used, ran.out + ran.err
    assert large.state() == before


def test_an_index_for_what_a_capture_asks(served: Office, capture_of: Captured) -> None:
    ran = run("trial", capture_of(served), "--db", served.url, "--index", "CREATE INDEX due ON port_call (status, eta)", "--json")  # fmt: skip
    rows = ran.json["statements"]
    assert 2 <= len(rows) <= 5 and all(row["same_result"] for row in rows)
    used = [row for row in rows if row["uses_index"]]
    assert 1 <= len(used) <= 2 and all("port_call.status =" in row["sql"] for row in used)
    assert all("port_call" in row["sql"] for row in rows)
    refused(
        run(
            "trial",
            capture_of(served),
            "--db",
            served.url,
            "--index",
            "CREATE INDEX n ON clearance (state)",
        ),
        "clearance",
    )


def test_what_can_be_said_wrongly_of_an_index(served: Office) -> None:
    db = ["trial", "--db", served.url, "--sql", "SELECT * FROM vessel"]
    refused(run(*db, "--index", "CREATE INDEX n ON vessel (nothing)"), "nothing")
    refused(run(*db, "--index", "CREATE INDEX n ON nowhere (name)"), "nowhere")
    refused(run(*db, "--index", "CREATE INDEX CONCURRENTLY n ON vessel (name)"), "CREATE INDEX")
    refused(run(*db), "name one thing to test")
    refused(
        run("trial", "--db", served.url, "--index", "CREATE INDEX n ON vessel (name)"),
        "needs statements",
        "--sql",
    )
    if served.system == "mariadb":
        refused(run("trial", "--db", served.url, "--index", "CREATE INDEX n ON vessel (name)", "--sql", "SELECT * FROM harbour.vessel"), "names a schema")  # fmt: skip


def alternatives(office: Office, capture: Path, number: int | str, *words: object) -> Any:
    ran = run("trial", capture, "--db", office.url, "--finding", number, "--json", *words)
    assert ran.code in (0, 1), ran.err
    return ran.json


def test_each_finding_is_replayed(office: Office, capture_of: Captured) -> None:
    capture = capture_of(office)
    listed = findings(capture)
    run("findings", capture)  # the list that the numbers count in
    variants = set()
    for place, finding in enumerate(listed, 1):
        if finding["pattern"] not in ("n-plus-one", "sibling-filters"):
            if finding["pattern"] != "over-wide":
                refused(
                    run("trial", capture, "--db", office.url, "--finding", place),
                    "statement",
                    "--before",
                )
            continue
        found = alternatives(office, capture, place, "--network-latency", "2ms")
        variants.add(finding["variant"])
        base, *others = found["alternatives"]
        assert base["queries"] == found["lookups"] + 1 or base["queries"] == found["lookups"]
        assert others and all(alternative["same_result"] for alternative in others), found
        assert base["with_latency_ms"] == pytest.approx(base["median_ms"] + 2 * base["queries"])
        for alternative in others:
            assert (
                alternative["queries"] < base["queries"]
                and alternative["ratio"]["low"]
                <= alternative["ratio"]["value"]
                <= alternative["ratio"]["high"]
            )
            assert alternative["ratio_with_latency"] == pytest.approx(
                base["with_latency_ms"] / alternative["with_latency_ms"]
            )
        assert (
            "the same rows" in found["verdict"]["text"]
            and "round trips saved" in found["verdict"]["text"]
        )
    assert {"to-one", "to-many", "count"} <= variants
    statistics = next(i for i, f in enumerate(listed, 1) if f["pattern"] == "sibling-filters")
    note = alternatives(office, capture, statistics)["alternatives"][1]["note"]
    assert "1 key has no group: it must stay on the page, with 0" in note, "no call is waiting"
    refused(run("trial", capture, "--db", office.url, "--finding", "99"), "no finding 99")
    refused(
        run("trial", capture, "--db", office.url, "--finding", "1", "--network-latency", "soon"),
        "--network-latency",
    )
    refused(run("trial", "--db", office.url, "--finding", "1"), "--finding needs a capture")


def test_the_join_keeps_its_parents_and_the_counts_their_zeros(
    office: Office, capture_of: Captured
) -> None:
    capture = capture_of(office)
    listed = findings(capture)
    to_one = next(
        i for i, f in enumerate(listed, 1) if f["variant"] == "to-one" and f["tables"] == ["vessel"]
    )
    names = [
        alternative["name"] for alternative in alternatives(office, capture, to_one)["alternatives"]
    ]
    assert names == ["row by row", "one batched query", "outer join"]
    counted = next(
        i
        for i, f in enumerate(listed, 1)
        if (f["pattern"], f["variant"]) == ("n-plus-one", "count")
    )
    grouped = alternatives(office, capture, counted)["alternatives"][1]
    assert (
        grouped["name"] == "one grouped query"
        and "2 keys have no group: they must stay on the page, with 0" in grouped["note"]
    )
    shown = run("trial", capture, "--db", office.url, "--finding", counted).out
    assert "one grouped query: the same rows" in shown and "GROUP BY" in shown


def test_a_look_up_of_the_latest_is_no_look_up_of_all(
    office_of: Callable[..., Office], record: Callable[..., Path]
) -> None:
    """Two calls of one vessel, of which the lookup takes the latest: without its LIMIT a batch
    would give both.
    """
    office = office_of("sqlite")
    path = office.url.removeprefix("sqlite:///")
    capture = record(
        """
        import sys, sqlite3, askless
        db = sqlite3.connect(f"file:{sys.argv[1]}?mode=ro", uri=True)
        with askless.request("calls"):
            for (vessel,) in db.execute("SELECT id FROM vessel ORDER BY id LIMIT 6").fetchall():
                db.execute("SELECT id, eta FROM port_call WHERE vessel_id = ? ORDER BY eta DESC LIMIT 1", (vessel,)).fetchall()
        """,
        path,
    )
    listed = findings(capture)
    place = next(
        i for i, f in enumerate(listed, 1) if f["route"] == "calls" and f["pattern"] == "n-plus-one"
    )
    tried = run("trial", capture, "--db", office.url, "--finding", place, "--json").json
    assert [alternative["same_result"] for alternative in tried["alternatives"]] == [
        True,
        True,
    ] and "ROW_NUMBER" in tried["alternatives"][1]["sql"]


def test_parents_without_children_are_no_rows_that_a_join_loads_in_vain(
    office_of: Callable[..., Office], record: Callable[..., Path]
) -> None:
    office = office_of("sqlite")
    path = office.url.removeprefix("sqlite:///")
    capture = record(
        """
        import sys, sqlite3, askless
        db = sqlite3.connect(f"file:{sys.argv[1]}?mode=ro", uri=True)
        with askless.request("calls"):
            childless = 0
            for (call,) in db.execute("SELECT id FROM port_call WHERE id <= 40").fetchall():
                childless += not db.execute("SELECT id, port_call_id FROM inspection WHERE port_call_id = ?", (call,)).fetchall()
        assert 0 < childless < 40, childless
        """,
        path,
    )
    tried = run("trial", capture, "--db", office.url, "--finding", "1", "--json").json
    joined = next(one for one in tried["alternatives"] if one["name"] == "outer join")
    assert joined["same_result"] and "rows that the page did not read" not in joined["note"]


def test_weighing_tells_which_part_costs(office: Office) -> None:
    sql = (
        "SELECT v.id, (SELECT count(*) FROM berth b WHERE b.name = v.flag) AS moored FROM vessel v "
        "LEFT JOIN port_call c ON c.vessel_id = v.id AND c.id < 3 WHERE v.id < ? AND v.name <> 'x' ORDER BY v.name"
    )
    ran = run(
        "weigh",
        "--db",
        office.url,
        "--sql",
        sql,
        "--parameters",
        "[12]",
        "--json",
        "--timeout",
        120,
    )
    assert ran.code == 0, ran.err
    parts = {(part["kind"], part["part"][:12]): part for part in ran.json["parts"]}
    assert [kind for kind, _ in parts] and {kind for kind, _ in parts} == {
        "join",
        "condition",
        "subquery",
        "sort",
    }
    # What takes seconds without a part, as on a busy machine, runs once and claims no ratio.
    ratios = [part["ratio"]["value"] for part in ran.json["parts"] if part["ratio"] is not None]
    assert ratios and ratios == sorted(ratios, reverse=True), "the dearest first"
    assert all(
        part["cost_ms"] == pytest.approx(ran.json["whole_ms"] - part["without_ms"])
        for part in ran.json["parts"]
    )
    limited = next(part for part in ran.json["parts"] if part["part"].startswith("v.id <"))
    assert (
        limited["rows"] > ran.json["rows"] == 11
        and "rows instead of 11" in limited["verdict"]["text"]
    )
    assert (
        "subquery: (SELECT"
        in run("weigh", "--db", office.url, "--sql", sql, "--parameters", "[12]").out
    )
    refused(run("weigh", "--db", office.url, "--sql", "SELECT 1"), "no clause can be removed")
    refused(
        run("weigh", "--db", office.url, "--sql", "DELETE FROM vessel WHERE id = 1"), "one SELECT"
    )
    refused(run("weigh", "--db", office.url), "name either a capture or --sql")


def test_weighing_a_shape_of_a_capture(served: Office, capture_of: Captured) -> None:
    capture = capture_of(served)
    rows = run("plan", capture, "--db", served.url, "--top", 40, "--json").json["statements"]
    shape = next(
        row["shape"]
        for row in rows
        if "ORDER BY port_call.eta" in row["sql"] and "status" in row["sql"]
    )
    ran = run("weigh", capture, "--db", served.url, "--shape", shape, "--json")
    assert {part["kind"] for part in ran.json["parts"]} == {"condition", "sort", "limit"}, ran.err
    refused(
        run("weigh", capture, "--db", served.url, "--shape", "zzz"), "no statement of shape zzz"
    )


def test_columns_that_the_look_up_gives_other_names(
    office_of: Callable[..., Office], record: Callable[..., Path]
) -> None:
    """Labels such as older ORMs write: `berth_id` is the berth's id there, and a column of the call
    here.
    """
    office = office_of("sqlite")
    capture = record(
        """
        import sys, sqlite3, askless
        db = sqlite3.connect(f"file:{sys.argv[1]}?mode=ro", uri=True)
        look_up = (
            "SELECT port_call.id AS port_call_id, port_call.vessel_id AS port_call_vessel_id, vessel_id + 0 AS sum_id"
            " FROM port_call WHERE port_call.id = ?"
        )
        with askless.request("jobs"):
            for call, in db.execute("SELECT port_call_id FROM tug_job WHERE port_call_id > 40 LIMIT 12").fetchall():
                db.execute(look_up.replace(", vessel_id + 0 AS sum_id", ""), (call,)).fetchall()
        with askless.request("sums"):
            for call, in db.execute("SELECT port_call_id FROM tug_job WHERE port_call_id > 40 LIMIT 12").fetchall():
                db.execute(look_up, (call,)).fetchall()
        """,
        office.url.removeprefix("sqlite:///"),
    )
    listed = {f["route"]: f["key"] for f in findings(capture) if f["pattern"] == "n-plus-one"}
    first = alternatives(office, capture, listed["jobs"])["alternatives"]
    assert [alternative["name"] for alternative in first] == [
        "row by row",
        "one batched query",
        "outer join",
    ]
    assert all(alternative["same_result"] for alternative in first), first
    assert (
        "port_call.vessel_id AS port_call_vessel_id" in first[2]["sql"]
        and "not show" not in first[1]["note"]
    )
    second = alternatives(office, capture, listed["sums"])["alternatives"]
    assert [alternative["name"] for alternative in second] == ["row by row", "one batched query"], (
        "a join has no word for the sum"
    )
    assert second[1]["same_result"]


PAGES_BY_HAND = """
import sys
import askless, sqlalchemy
from sqlalchemy import text
with sqlalchemy.create_engine(sys.argv[1]).connect() as db:
    ids = "SELECT id FROM vessel WHERE id BETWEEN 40 AND 59 ORDER BY id"
    with askless.request("first"):
        for (key,) in db.execute(text(ids)).all():
            last = "SELECT id, status FROM port_call WHERE vessel_id = :key ORDER BY eta DESC, id DESC LIMIT 1"
            db.execute(text(last), {"key": key}).all()
    with askless.request("few"):
        for (key,) in db.execute(text(ids)).all():
            last = "SELECT id, status FROM port_call WHERE vessel_id = :key ORDER BY eta DESC, id DESC LIMIT :most"
            db.execute(text(last), {"key": key, "most": 2}).all()
    with askless.request("whether"):
        for (key,) in db.execute(text(ids)).all():
            db.execute(text("SELECT EXISTS(SELECT 1 FROM port_call WHERE vessel_id = :key AND status = 'due')"), {"key": key}).all()
"""


def test_the_first_of_each_and_whether_there_is_one(office: Office, tmp_path: Path) -> None:
    """Both alternatives return what the lookups returned, vessels without a call among them."""
    (tmp_path / "pages.py").write_text(PAGES_BY_HAND)
    capture = tmp_path / "calls"
    done = run(
        "capture", "app", "-o", capture, "--", sys.executable, tmp_path / "pages.py", office.app_url
    )
    assert done.code == 0, done.err
    found = {f["route"]: f for f in findings(capture)}
    assert {route: f["variant"] for route, f in found.items()} == {
        "first": "first-of-each",
        "few": "few-of-each",
        "whether": "exists",
    }
    for finding in found.values():
        tried = alternatives(office, capture, finding["key"])
        assert tried["lookups"] == 20 and [
            alternative["same_result"] for alternative in tried["alternatives"]
        ] == [
            True,
            True,
        ], tried
