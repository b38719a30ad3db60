"""Patterns on captures of a real program: each has positives, and its traps stay clean."""

from __future__ import annotations

import sqlite3
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import findings, run

PROGRAM = '''
import sqlite3, sys, time
import askless

db = sqlite3.connect(sys.argv[1])
db.executescript("""
CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT, flag TEXT, log TEXT);
CREATE TABLE berth (id INTEGER PRIMARY KEY, name TEXT);
CREATE TABLE port_call (id INTEGER PRIMARY KEY, vessel_id INTEGER REFERENCES vessel(id), berth_id INTEGER, status TEXT);
CREATE TABLE tug_job (id INTEGER PRIMARY KEY, port_call_id INTEGER REFERENCES port_call(id), tug_id INTEGER);
CREATE TABLE tug (id INTEGER PRIMARY KEY, name TEXT);
""")
db.executemany("INSERT INTO vessel VALUES (?, ?, ?, ?)", [(100 + i, "Vessel %d" % i, "NO", "x" * 900) for i in range(700)])
db.executemany("INSERT INTO berth VALUES (?, ?)", [(i, "Quay %d" % i) for i in range(1, 13)])
db.executemany("INSERT INTO port_call VALUES (?, ?, ?, ?)", [(5000 + i, 100 + i * 7 % 700, 1 + i % 11, "due") for i in range(600)])
db.executemany("INSERT INTO tug_job VALUES (?, ?, ?)", [(9000 + i, 5000 + i // 2, 50 + i % 9) for i in range(600)])
db.executemany("INSERT INTO tug VALUES (?, ?)", [(50 + i, "Tug %d" % i) for i in range(9)])
db.commit()


def one(sql, *values):
    return db.execute(sql, values).fetchone()


def every(sql, *values):
    return db.execute(sql, values).fetchall()


def calls(first=8):
    return every("SELECT id, vessel_id FROM port_call WHERE status = 'due' ORDER BY id LIMIT ?", first)


# -- wasteful queries ---------------------------------------------------------------------------------------------------

def to_one():
    for _, vessel in calls():
        one("SELECT id, name FROM vessel WHERE id = ?", vessel)

def to_one_inlined():
    for _, vessel in calls():
        one("SELECT id, name FROM vessel WHERE id = %d" % vessel)

def to_one_in_list():
    for _, vessel in calls():
        one("SELECT id, name FROM vessel WHERE id IN (?)", vessel)

def to_one_iterated():
    for _, vessel in db.execute("SELECT id, vessel_id FROM port_call WHERE status = 'due' LIMIT 8"):
        one("SELECT id, name FROM vessel WHERE id = ?", vessel)

def to_one_with_repeats():
    for vessel in [v for _, v in calls(6)] * 2:
        one("SELECT id, name FROM vessel WHERE id = ?", vessel)

def to_one_two_lines():
    for turn, (_, vessel) in enumerate(calls(4)):
        if turn % 2:
            one("SELECT id, name FROM vessel WHERE id = ?", vessel)
        else:
            one("SELECT id, name FROM vessel WHERE id = ?", vessel)

def to_many():
    for call, _ in calls():
        every("SELECT id, tug_id FROM tug_job WHERE port_call_id = ?", call)

def nested():
    for call, _ in calls(6):
        for _, tug in every("SELECT id, tug_id FROM tug_job WHERE port_call_id = ?", call):
            one("SELECT name FROM tug WHERE id = ?", tug)

def count():
    for berth, in every("SELECT id FROM berth"):
        one("SELECT COUNT(*) FROM port_call WHERE berth_id = ?", berth)

def exists():
    for berth, in every("SELECT id FROM berth"):
        one("SELECT EXISTS(SELECT 1 FROM port_call WHERE berth_id = ?)", berth)

def latest_by_a_maximum():
    latest = "SELECT id, tug_id FROM tug_job WHERE port_call_id = ? AND id = (SELECT MAX(id) FROM tug_job WHERE port_call_id = ?)"
    for row in calls():
        one(latest, row[0], row[0])


def duplicate():
    for _ in range(3):
        one("SELECT name FROM berth WHERE id = ?", 3)

def duplicate_two_callers():
    one("SELECT name FROM berth WHERE id = ?", 3)
    every("SELECT id FROM tug")
    one("SELECT name FROM berth WHERE id = ?", 3)

def over_wide():
    every("SELECT id, name, log FROM vessel LIMIT 40")

def over_wide_star():
    every("SELECT * FROM port_call LIMIT 400")

def unbounded():
    every("SELECT id, name FROM vessel ORDER BY id")

def siblings():
    for status in ("due", "berthed", "departed", "cancelled"):
        one("SELECT COUNT(*) FROM port_call WHERE status = ?", status)

def siblings_inlined():
    due = one("SELECT SUM(berth_id), MAX(id) FROM port_call WHERE berth_id > 2 AND status = 'due'")
    berthed = one("SELECT SUM(berth_id), MAX(id) FROM port_call WHERE berth_id > 2 AND status = 'berthed'")
    departed = one("SELECT SUM(berth_id), MAX(id) FROM port_call WHERE berth_id > 2 AND status = 'departed'")

def write_loop_insert():
    for number in range(6):
        db.execute("INSERT INTO tug (id, name) VALUES (?, ?)", (9000 + number, "Tug"))
    db.commit()

def write_loop_alone():
    for number in range(6):
        db.execute("UPDATE berth SET name = ? WHERE id = ?", ("Quay", number))
        db.commit()

def write_loop_inlined():
    with db:
        for number in range(6):
            db.execute("DELETE FROM tug WHERE id = %d" % (9000 + number))

def already_loaded():
    every("SELECT id, port_call_id, tug_id FROM tug_job WHERE port_call_id < 5010")
    for call in range(5000, 5006):
        every("SELECT id, port_call_id, tug_id FROM tug_job WHERE port_call_id = ?", call)

def already_loaded_twice_only():
    every("SELECT id, name FROM tug")
    one("SELECT id, name FROM tug WHERE id = ?", 52)
    one("SELECT id, name FROM tug WHERE id = ?", 53)


# -- clean, though they look alike -----------------------------------------------------------------------------------

def clean_two_look_ups():
    for _, vessel in calls(2):
        one("SELECT id, name FROM vessel WHERE id = ?", vessel)

def clean_batches_in_chunks():
    keys = [v for _, v in calls(45)]
    for start in range(0, 45, 10):
        chunk = keys[start:start + 10]
        every("SELECT id, name FROM vessel WHERE id IN (%s)" % ",".join("?" * len(chunk)), *chunk)

def clean_pages_by_offset():
    for page in range(4):
        every("SELECT id, name FROM vessel ORDER BY id LIMIT 10 OFFSET ?", page * 10)

def clean_pages_by_key():
    last = 0
    for _ in range(4):
        last = every("SELECT id, name FROM vessel WHERE id > ? ORDER BY id LIMIT 10", last)[-1][0]

def clean_read_again_after_a_write():
    for flag in ("DK", "SE", "FI"):
        one("SELECT flag FROM vessel WHERE id = ?", 100)
        db.execute("UPDATE vessel SET flag = ? WHERE id = ?", (flag, 100))
    db.commit()

def clean_three_look_ups_of_a_detail_page():
    one("SELECT id, name FROM vessel WHERE id = ?", 101)
    one("SELECT id, name FROM berth WHERE id = ?", 4)
    one("SELECT id, name FROM tug WHERE id = ?", 51)

def get(number):
    return one("SELECT id, name FROM vessel WHERE id = ?", number)

def clean_one_helper_called_from_three_lines():
    get(101)
    get(102)
    get(103)

def clean_functions_that_change():
    for _ in range(4):
        one("SELECT random()")
        one("SELECT datetime('now'), ?", 1)

def clean_retry_after_an_error():
    for _ in range(3):
        try:
            one("SELECT name FROM vessl WHERE id = ?", 7)
        except sqlite3.OperationalError:
            pass
    one("SELECT name FROM vessel WHERE id = ?", 7)

def clean_polling():
    for _ in range(3):
        one("SELECT COUNT(*) FROM tug_job WHERE tug_id = ?", 50)
        time.sleep(0.6)

def clean_two_constants_in_aggregates():
    for status in ("due", "berthed"):
        one("SELECT COUNT(*) FROM port_call WHERE status = ?", status)

def clean_constants_with_writes_between():
    for status in ("due", "berthed", "departed"):
        one("SELECT COUNT(*) FROM port_call WHERE status = ? AND id > 0", status)
        db.execute("UPDATE port_call SET berth_id = berth_id WHERE id = 5000")
    db.commit()

def clean_constants_far_apart():
    for status in ("due", "berthed", "departed"):
        one("SELECT COUNT(*) FROM port_call WHERE status = ? AND id > 1", status)
        time.sleep(0.6)

def clean_two_things_that_vary():
    for berth, status in enumerate(("due", "berthed", "departed", "cancelled")):
        one("SELECT COUNT(*) FROM port_call WHERE status = ? AND berth_id = ?", status, berth)

def clean_short_list():
    every("SELECT id, name FROM berth")

def clean_the_child_batch_before_the_parent():
    every("SELECT id, name FROM vessel WHERE id IN (SELECT vessel_id FROM port_call LIMIT 15)")
    calls(15)

def clean_many_parameter_sets():
    with db:
        db.executemany("INSERT INTO tug (id, name) VALUES (?, ?)", [(9100 + n, "Tug") for n in range(9)])
        db.execute("INSERT INTO tug (id, name) VALUES " + ", ".join("(%d, 'Tug')" % (9200 + n) for n in range(9)))
        db.execute("DELETE FROM tug WHERE id >= 9000")

def clean_four_writes():
    with db:
        for number in range(4):
            db.execute("UPDATE berth SET name = ? WHERE id = ?", ("Quay", number))

def clean_loaded_before_but_written_since():
    every("SELECT id, name FROM tug")
    with db:
        db.execute("UPDATE tug SET name = 'Bull' WHERE id = 52")
    one("SELECT id, name FROM tug WHERE id = ?", 52)
    one("SELECT id, name FROM tug WHERE id = ?", 53)

def clean_loaded_before_but_not_all_columns():
    every("SELECT id FROM tug")
    one("SELECT id, name FROM tug WHERE id = ?", 52)
    one("SELECT id, name FROM tug WHERE id = ?", 53)

def clean_other_rows_than_before():
    every("SELECT id, name FROM tug WHERE id < 52")
    one("SELECT id, name FROM tug WHERE id = ?", 52)
    one("SELECT id, name FROM tug WHERE id = ?", 53)

def clean_transaction_control():
    for number in range(4):
        db.execute("BEGIN")
        db.execute("ROLLBACK")
        one("SELECT 1")


for name, function in list(globals().items()):
    if callable(function) and (name.startswith("clean_") or name in sys.argv[2].split(",")):
        with askless.request(name):
            function()
for turn in range(5):
    with askless.request("clean: the same constant lookup in different requests"):
        one("SELECT name FROM berth WHERE id = ?", 1)
'''
POSITIVE = {
    "to_one": ("n-plus-one", "to-one"),
    "to_one_inlined": ("n-plus-one", "to-one"),
    "to_one_in_list": ("n-plus-one", "to-one"),
    "to_one_iterated": ("n-plus-one", "to-one"),
    "to_one_with_repeats": ("n-plus-one", "to-one"),
    "to_one_two_lines": ("n-plus-one", "to-one"),
    "to_many": ("n-plus-one", "to-many"),
    "nested": ("n-plus-one", "to-many"),
    "count": ("n-plus-one", "count"),
    "exists": ("n-plus-one", "exists"),
    "latest_by_a_maximum": ("n-plus-one", "first-of-each"),
    "duplicate": ("duplicate", ""),
    "duplicate_two_callers": ("duplicate", ""),
    "over_wide": ("over-wide", "wide-columns"),
    "over_wide_star": ("over-wide", "star"),
    "unbounded": ("unbounded", "whole-table"),
    "siblings": ("sibling-filters", "count"),
    "siblings_inlined": ("sibling-filters", "aggregate"),
    "write_loop_insert": ("write-loop", "insert"),
    "write_loop_alone": ("write-loop", "update, each commits alone"),
    "write_loop_inlined": ("write-loop", "delete"),
    "already_loaded": ("already-loaded", ""),
    "already_loaded_twice_only": ("already-loaded", ""),
}


@pytest.fixture(scope="module")
def capture(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("patterns")
    script = folder / "harbour_jobs.py"
    script.write_text(PROGRAM)
    import sys

    ran = run(
        "capture",
        "app",
        "-o",
        folder / "calls",
        "--",
        sys.executable,
        script,
        folder / "jobs.db",
        ",".join(POSITIVE),
    )
    assert ran.code == 0, ran.err
    return folder / "calls"


@pytest.fixture(scope="module")
def by_route(capture: Path) -> dict[str, list[dict[str, Any]]]:
    found: dict[str, list[dict[str, Any]]] = {}
    for finding in findings(capture):
        found.setdefault(finding["route"], []).append(finding)
    return found


@pytest.mark.parametrize("name", POSITIVE)
def test_what_asks_too_much_is_found(name: str, by_route: dict[str, list[dict[str, Any]]]) -> None:
    pattern, variant = POSITIVE[name]
    first = by_route[name][0]
    assert (first["pattern"], first["variant"]) == (pattern, variant)
    assert first["lines"][0]["file"].endswith("harbour_jobs.py")
    assert len(by_route[name]) == (2 if name == "nested" else 1), "one finding per cause"


def test_every_finding_has_a_key_of_its_own(record: Any) -> None:
    folder = record(
        """
        import sqlite3, askless
        db = sqlite3.connect(":memory:")
        db.execute("CREATE TABLE tug (id INTEGER PRIMARY KEY)")
        def page():
            for n in range(4):
                db.execute("SELECT id FROM tug WHERE id = ?", (n,)).fetchone()
            for n in range(4):
                db.execute("SELECT id FROM tug WHERE id = ?", (n,)).fetchone()
        with askless.request("roll call"):
            page()
        """
    )
    found = findings(folder)
    assert len(found) == 2 and len({f["lines"][0]["line"] for f in found}) == 2
    first = min(found, key=lambda f: f["lines"][0]["line"])["key"]
    assert {f["key"] for f in found} == {first, first + "-2"}


def test_a_loop_over_one_helper_is_one_edit(record: Any) -> None:
    """The helper sends what its arguments ask for: several shapes and lines, all for the rows of
    one query.
    """
    folder = record(
        """
        import sqlite3, askless
        db = sqlite3.connect(":memory:")
        db.execute("CREATE TABLE tug (id INTEGER PRIMARY KEY, name TEXT)")
        db.execute("CREATE TABLE tug_job (id INTEGER PRIMARY KEY, tug_id INTEGER, berth_id INTEGER, open INTEGER)")
        db.executemany("INSERT INTO tug VALUES (?, ?)", [(n, "Tern %d" % n) for n in range(24)])
        db.executemany("INSERT INTO tug_job VALUES (?, ?, ?, ?)", [(n, n % 24, n % 7, n % 2) for n in range(96)])
        def jobs(tug, open, busy):
            sql = "SELECT id FROM tug_job WHERE tug_id = ?" + (" AND open = 1" if open else "")
            if busy:
                return db.execute(sql + " AND berth_id > 2", (tug,)).fetchall()
            return db.execute(sql, (tug,)).fetchall()
        def count(tug):
            return db.execute("SELECT COUNT(*) FROM tug_job WHERE tug_id = ?", (tug,)).fetchone()
        with askless.request("board"):
            for tug, name in db.execute("SELECT id, name FROM tug ORDER BY id").fetchall():
                jobs(tug, tug % 2, tug % 3), count(tug)
        """
    )
    edits = [
        edit
        for edit in run("findings", folder, "--json").json["edits"]
        if edit["routes"] == ["board"]
    ]
    assert sorted(len(edit["findings"]) for edit in edits) == [1, 4], (
        "the counts are another change"
    )
    together = max(edits, key=lambda edit: len(edit["findings"]))
    assert together["queries"] == 49 and together["queries_after"] == 49 - 24 + 4


def test_traps_stay_clean(capture: Path, by_route: dict[str, list[dict[str, Any]]]) -> None:
    routes = {row["route"] for row in run("requests", capture, "--json").json["routes"]}
    traps = {route for route in routes if route.startswith("clean")}
    assert len(traps) == 23
    told = {route: [f["pattern"] for f in by_route[route]] for route in traps if route in by_route}
    assert told == {"clean_retry_after_an_error": ["failing"]}, (
        "an error is shown; its tries are no repetition"
    )


@pytest.mark.parametrize(
    "name",
    ["to_one", "to_one_inlined", "to_one_in_list", "to_one_iterated", "to_many", "count", "exists"],
)
def test_values_were_seen_to_flow(name: str, by_route: dict[str, list[dict[str, Any]]]) -> None:
    finding = by_route[name][0]
    assert finding["evidence"] == "traced"
    column = {"to_many": "port_call.id", "count": "berth.id", "exists": "berth.id"}.get(
        name, "port_call.vessel_id"
    )
    assert column in " ".join(finding["evidence_details"])


def test_a_nested_repetition_names_its_whole_path(
    by_route: dict[str, list[dict[str, Any]]],
) -> None:
    inner = next(f for f in by_route["nested"] if "tug_job" not in f["tables"])
    assert inner["variant"] == "nested to-one"
    assert "(1 + 6 + 12)" in inner["title"]
    assert any("port_call → tug_job → tug" in reason for reason in inner["evidence_details"])


def test_repeated_keys_are_part_of_the_one_finding(
    by_route: dict[str, list[dict[str, Any]]],
) -> None:
    finding = by_route["to_one_with_repeats"][0]
    assert any(
        "6 of the 12 lookups repeat a key" in reason for reason in finding["evidence_details"]
    )


def test_all_callers_of_a_duplicate_are_named(by_route: dict[str, list[dict[str, Any]]]) -> None:
    """The helper that executes whatever it is given is not the line."""
    named = {
        (line["line"], line["function"]) for line in by_route["duplicate_two_callers"][0]["lines"]
    }
    lines = [
        i
        for i, line in enumerate(PROGRAM.splitlines(), 1)
        if line == '    one("SELECT name FROM berth WHERE id = ?", 3)'
    ]
    assert len(lines) == 2 and named == {(line, "duplicate_two_callers") for line in lines}


def test_advice_for_counts_keeps_parents_with_none(
    by_route: dict[str, list[dict[str, Any]]],
) -> None:
    advice = by_route["count"][0]["advice"][0]
    assert "GROUP BY" in advice["sql"] and "berth_id IN (:keys)" in advice["sql"]
    assert any("must remain, with 0" in check for check in advice["verify"])


def test_the_projection_advised_keeps_the_key(by_route: dict[str, list[dict[str, Any]]]) -> None:
    advice = by_route["over_wide"][0]["advice"][0]
    assert (
        "log" not in advice["sql"] and "id" in advice["sql"] and advice["title"] == "leave out log"
    )


@pytest.mark.parametrize("name", ["to_one", "to_many"])
def test_the_batched_query_advised_gives_the_same_rows(
    name: str, capture: Path, by_route: dict[str, list[dict[str, Any]]]
) -> None:
    finding = by_route[name][0]
    sql = next(a["sql"] for a in finding["advice"] if "batched" in a["title"])
    with sqlite3.connect(capture.parent / "jobs.db") as db:
        rows = db.execute(
            "SELECT id, vessel_id FROM port_call WHERE status = 'due' ORDER BY id LIMIT 8"
        ).fetchall()
        keys = [row[0 if name == "to_many" else 1] for row in rows]
        one_by_one = [row for key in keys for row in db.execute(finding["sql"], (key,)).fetchall()]
        at_once = db.execute(sql.replace(":keys", ", ".join(map(str, keys)))).fetchall()
    db.close()
    width = len(one_by_one[0])
    assert sorted(row[:width] for row in at_once) == sorted(one_by_one)


def test_schema_gives_keyed_evidence_and_the_size_of_the_table(capture: Path) -> None:
    found = {
        f["route"]: f for f in findings(capture, "--db", f"sqlite:///{capture.parent / 'jobs.db'}")
    }
    assert found["unbounded"]["evidence"] == "keyed"
    assert "700 rows of the whole table vessel" in found["unbounded"]["title"]


def test_literals_are_masked_unless_asked_for(capture: Path) -> None:
    masked = next(f for f in findings(capture) if f["route"] == "to_one_inlined")
    shown = next(f for f in findings(capture, "--values") if f["route"] == "to_one_inlined")
    assert masked["sql"].endswith("WHERE id = ?") and not shown["sql"].endswith("?")


def test_keyed_evidence_without_a_traced_source(record: Any, tmp_path: Path) -> None:
    """Keys that come from outside the database: only the schema says that they are keys."""
    folder = record(
        """
        import sqlite3, askless
        db = sqlite3.connect("keyed.db")
        db.execute("CREATE TABLE IF NOT EXISTS tug (id INTEGER PRIMARY KEY, name TEXT)")
        db.executemany("INSERT INTO tug VALUES (?, ?)", [(i, "Tug") for i in range(50, 60)])
        db.commit()
        with askless.request("roll call"):
            for number in (51, 55, 58, 53):
                db.execute("SELECT name FROM tug WHERE id = ?", (number,)).fetchone()
        """
    )
    without = findings(folder)
    assert [(f["pattern"], f["evidence"]) for f in without] == [("n-plus-one", "repeated")]
    assert any("outside the database" in doubt for doubt in without[0]["caveats"])
    with_schema = findings(folder, "--db", f"sqlite:///{tmp_path / 'keyed.db'}")
    assert [(f["pattern"], f["evidence"]) for f in with_schema] == [("n-plus-one", "keyed")]
