"""Patterns on traffic as other clients send it: PostgreSQL and MySQL dialects, joins to the parent,
inlined literals.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Self

import msgspec
import pytest

from askless.capture.writing import CaptureWriter
from askless.core.records.model import CallSite, Wait
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from tests.conftest import findings, run

Query = tuple[str, tuple[Any, ...], int]
LISTED = "SELECT id, vessel_id, berth_id FROM port_call WHERE status = 'due' ORDER BY eta LIMIT 6"


class Made:
    """A request put together query by query."""

    def __init__(self, folder: Path, system: str) -> None:
        self.path = folder / "made.jsonl"
        self.system = system
        self.rows: list[QuerySeen] = []
        self.errands: list[Wait] = []
        self.route = "GET /calls"
        self.place = CallSite("/app/pages.py", 10, "page")

    def ask(
        self,
        text: str,
        *parameters: Any,
        rows: int = 1,
        columns: tuple[str, ...] = (),
        sample: Any = None,
        gap_ms: float = 1,
        digest: int = 0,
        duration_ns: int = 400_000,
        **more: Any,
    ) -> Self:
        start = self.rows[-1].start_ns + int(gap_ms * 1e6) if self.rows else 1_000_000
        row = QuerySeen(
            text, start, duration_ns, rows, 40 * rows, digest or len(self.rows) + 1, self.place,
            parameters=parameters, columns=columns, sampled=tuple(range(len(columns))), sample=sample,
            **more,
        )  # fmt: skip
        self.rows.append(row)
        return self

    def parents(self, text: str = LISTED) -> Self:
        sample = tuple((700 + i, 9000 + 3 * i, 40 + i) for i in range(6))
        return self.ask(text, rows=6, columns=("id", "vessel_id", "berth_id"), sample=sample)

    def write(self) -> Path:
        return written([self])

    def found(self) -> list[tuple[str, str, str]]:
        return [(f["pattern"], f["variant"], f["evidence"]) for f in findings(self.write())]


def written(requests: Sequence[Made], every_s: float = 0) -> Path:
    """A capture of requests, which begin so many seconds apart."""
    first = requests[0]
    writer = CaptureWriter(first.path, "test", first.system)
    for turn, one in enumerate(requests, 1):
        later_ns = int((turn - 1) * every_s * 1e9)
        rows = [msgspec.structs.replace(row, start_ns=row.start_ns + later_ns) for row in one.rows]
        writer.request_began(RequestBegan(turn, one.route, later_ns))
        writer.queries(turn, rows)
        if one.errands:
            writer.errands(turn, one.errands)
        last = rows[-1]
        writer.request_ended(RequestEnded(turn, last.start_ns + last.duration_ns + 4_600_000))
    writer.close()
    return first.path


@pytest.fixture
def made(tmp_path: Path) -> Callable[[str], Made]:
    return lambda system: Made(tmp_path, system)


KEYS = [700 + i for i in range(6)]
VESSELS = [9000 + 3 * i for i in range(6)]
ROW_BY_ROW = [
    (
        "postgresql",
        "SELECT vessel.id, vessel.name FROM vessel WHERE vessel.id = $1::INTEGER",
        VESSELS,
        "to-one",
    ),
    ("postgresql", "SELECT id, name FROM vessel WHERE id = %(pk_1)s", VESSELS, "to-one"),
    ("postgresql", "SELECT id, name FROM vessel WHERE id IN ($1)", VESSELS, "to-one"),
    ("mysql", "SELECT `vessel`.* FROM `vessel` WHERE `vessel`.`id` = ? LIMIT 1", VESSELS, "to-one"),
    (
        "mysql",
        "SELECT `vessel`.* FROM `vessel` WHERE `vessel`.`id` = {key} LIMIT 1",
        VESSELS,
        "to-one",
    ),
    (
        "postgresql",
        'SELECT "vessel"."id" FROM "vessel" WHERE "vessel"."id" = {key}',
        VESSELS,
        "to-one",
    ),
    (
        "postgresql",
        "SELECT id, tug_id FROM tug_job WHERE port_call_id = $1 AND port_call_id IS NOT NULL",
        KEYS,
        "to-many",
    ),
    (
        "postgresql",
        "SELECT v.id, v.name FROM vessel v JOIN port_call p ON p.vessel_id = v.id WHERE p.id IN ($1)",
        KEYS,
        "to-one",
    ),
    (
        "postgresql",
        "SELECT t.id FROM tug t JOIN tug_job j ON j.tug_id = t.id AND j.port_call_id = $1",
        KEYS,
        "link-table",
    ),
    (
        "mysql",
        "SELECT t.id FROM tug t, tug_job j WHERE j.tug_id = t.id AND j.port_call_id = {key}",
        KEYS,
        "link-table",
    ),
    (
        "postgresql",
        "SELECT COUNT(*) AS aggregate FROM tug_job WHERE tug_job.port_call_id = $1",
        KEYS,
        "count",
    ),
    (
        "postgresql",
        "SELECT COUNT(1) FROM (SELECT 1 FROM tug_job WHERE port_call_id = $1) AS _w",
        KEYS,
        "count",
    ),
    (
        "postgresql",
        'select exists(select * from tug_job where port_call_id = $1) as "exists"',
        KEYS,
        "exists",
    ),
    (
        "mysql",
        "SELECT 1 AS one FROM `tug_job` WHERE `tug_job`.`port_call_id` = ? LIMIT 1",
        KEYS,
        "exists",
    ),
]


PLACEHOLDER = re.compile(r"\$1(?:::INTEGER)?|%\(pk_1\)s|\?")


@pytest.mark.parametrize("form", ["as sent", "whole", "under a comment of its own"])
@pytest.mark.parametrize("system, text, keys, variant", ROW_BY_ROW)
def test_row_by_row_in_many_tongues(
    system: str, text: str, keys: list[int], variant: str, form: str, made: Callable[[str], Made]
) -> None:
    request = made(system).parents()
    for turn, key in enumerate(keys):
        sent = text.replace("{key}", str(key))
        bound = "{key}" not in text and form == "as sent"
        if form != "as sent":
            sent = PLACEHOLDER.sub(str(key), sent) + (
                "" if form == "whole" else f" /* trace {turn:032x} */"
            )
        request.ask(sent, *([key] if bound else []), rows=2 if variant == "to-many" else 1)
    found = request.found()
    assert len(found) == 1 and found[0][0] == "n-plus-one" and found[0][2] == "traced", found
    assert found[0][1] == variant


def test_control_traffic_between_is_noise(made: Callable[[str], Made]) -> None:
    request = made("postgresql").parents()
    for turn, key in enumerate(VESSELS):
        request.ask("BEGIN", rows=0).ask("SELECT name FROM vessel WHERE id = $1", key)
        request.ask(f"DEALLOCATE pdo_stmt_{turn:08}", rows=0).ask("ROLLBACK", rows=0)
    path = request.write()
    (row,) = run("requests", path, "--json").json["routes"]
    assert row["queries"] == 7 and row["noise"] == 18
    assert [f["pattern"] for f in findings(path)] == ["n-plus-one"]


def clean(made: Made) -> None:
    assert made.found() == []


def test_locks_are_not_repetitions(made: Callable[[str], Made]) -> None:
    request = made("postgresql").parents()
    for key in VESSELS:
        request.ask("SELECT id FROM vessel WHERE id = $1 FOR UPDATE", key)
    for _ in range(4):
        request.ask("SELECT pg_advisory_xact_lock(77)")
    clean(request)


def test_fetches_of_a_server_side_cursor(made: Callable[[str], Made]) -> None:
    request = made("postgresql").ask('DECLARE "calls" CURSOR FOR SELECT * FROM port_call', rows=0)
    for _ in range(6):
        request.ask('FETCH FORWARD 100 FROM "calls"', rows=100)
    clean(request)


def test_eager_batches_of_ten_then_five(made: Callable[[str], Made]) -> None:
    request = made("mysql").parents()
    for size in (10, 10, 10, 5):
        marks = ", ".join("?" * size)
        request.ask(
            f"SELECT id, name FROM vessel WHERE id IN ({marks})",
            *range(9000, 9000 + size),
            rows=size,
        )
        request.ask(
            "SELECT id, name FROM vessel WHERE id IN (" + ", ".join(map(str, range(size))) + ")",
            rows=size,
        )
    clean(request)


def test_the_same_select_around_an_update(made: Callable[[str], Made]) -> None:
    request = made("postgresql")
    for status in ("due", "berthed", "departed"):
        request.ask("SELECT status FROM port_call WHERE id = $1", 700)
        request.ask("UPDATE port_call SET status = $1 WHERE id = $2", status, 700)
    clean(request)


def test_the_same_query_with_and_without_offset(made: Callable[[str], Made]) -> None:
    request = made("postgresql").ask("SELECT id FROM port_call ORDER BY id LIMIT 20", rows=20)
    for page in range(1, 5):
        request.ask("SELECT id FROM port_call ORDER BY id LIMIT 20 OFFSET $1", page * 20, rows=20)
        request.ask(f"SELECT id FROM berth ORDER BY id LIMIT 20 OFFSET {page * 20}", rows=20)
    clean(request)


def test_objects_read_again_by_their_own_key(made: Callable[[str], Made]) -> None:
    """A projection left a column out: each object is read again, one query a row."""
    request = made("postgresql").parents()
    for key in KEYS:
        request.ask(
            "SELECT port_call.id, port_call.agent FROM port_call WHERE port_call.id = $1", key
        )
    assert request.found() == [("n-plus-one", "same-row", "traced")]
    (finding,) = findings(request.path)
    assert finding["advice"][0]["title"] == "select the missing columns in the first query"


def test_a_statement_that_no_parser_reads_is_still_counted(made: Callable[[str], Made]) -> None:
    request = made("postgresql")
    for key in range(5):
        request.ask("FROBNICATE THE HARBOUR WHERE ((id = $1", key)
    path = request.write()
    (row,) = run("requests", path, "--json").json["routes"]
    assert row["queries"] == 5 and row["repeated"] == 4 and row["shapes"] == 1
    assert findings(path) == []


def test_repeats_spread_over_time_are_polling(made: Callable[[str], Made]) -> None:
    request = made("postgresql")
    for _ in range(5):
        request.ask("SELECT count(*) FROM clearance WHERE state = $1", "asked", gap_ms=800)
    clean(request)


@pytest.mark.parametrize(
    "text",
    [
        "SELECT id FROM vessel WHERE lower(call_sign) = {key}",  # no lookup by key, as far as is known
        "SELECT nextval('calls') + vessel.id FROM vessel WHERE vessel.id = {key}",
        "SELECT id FROM vessel WHERE id > {key}",
        "SELECT id FROM vessel WHERE id NOT IN ({key})",
    ],
)
def test_what_varies_but_is_no_key(text: str, made: Callable[[str], Made]) -> None:
    request = made("postgresql").parents()
    for key in VESSELS:
        request.ask(text.replace("{key}", str(key)))
    clean(request)


WRITES = [
    "UPDATE port_call SET status = 'due' WHERE id = 1", "REPLACE INTO port_call (id) VALUES (1)", "TRUNCATE TABLE port_call",
    "CALL tidy()", "DELETE FROM port_call WHERE id = 5", "NOBODY KNOWS WHAT THIS DOES TO port_call ((",
]  # fmt: skip


@pytest.mark.parametrize("write", WRITES)
def test_a_read_again_after_a_write_is_meant_even_where_it_gives_the_same(
    write: str, made: Callable[[str], Made]
) -> None:
    request = made("mysql")
    for _ in range(3):
        request.ask("SELECT status FROM port_call WHERE id = 700", digest=5).ask(write, rows=1)
    assert "duplicate" not in [pattern for pattern, _, _ in request.found()]
    other = made("mysql")
    for _ in range(3):
        other.ask("SELECT status FROM port_call WHERE id = 700", digest=5).ask(
            "SELECT 3 FROM berth", digest=6
        )
    other.path = other.path.with_name("other.jsonl")
    assert ("duplicate", "", "traced") in other.found(), "reads of another table change nothing"


def test_aggregates_that_are_grouped_already_are_no_siblings(made: Callable[[str], Made]) -> None:
    request = made("postgresql")
    for berth in range(1, 6):
        request.ask(
            f"SELECT count(*) FROM port_call WHERE berth_id = {berth} GROUP BY status", rows=4
        )
    assert "sibling-filters" not in [pattern for pattern, _, _ in request.found()]


def test_writes_with_many_sets_of_parameters_are_no_loop(made: Callable[[str], Made]) -> None:
    request = made("postgresql")
    for berth in range(6):
        request.ask("INSERT INTO berth (id, name) VALUES ($1, $2)", berth, "Quay", batch=10)
    clean(request)


def test_a_list_with_an_end_is_not_unbounded(made: Callable[[str], Made]) -> None:
    clean(made("postgresql").ask("SELECT id, name FROM vessel ORDER BY id LIMIT 900", rows=900))
    other = made("postgresql").ask("SELECT id, name FROM vessel ORDER BY id", rows=900)
    other.path = other.path.with_name("other.jsonl")
    assert other.found() == [("unbounded", "whole-table", "repeated")]


def test_a_wide_key_stays_in_the_projection(made: Callable[[str], Made]) -> None:
    columns = ("id", "berth_id", "eta", "remarks")
    text = "SELECT id, berth_id, eta, remarks FROM port_call WHERE status = 'due' ORDER BY eta LIMIT 40"
    keys = made("postgresql").ask(
        text, rows=40, columns=columns, widths=(20_000, 20_000, 20_000, 40)
    )
    keys.rows[0] = msgspec.structs.replace(keys.rows[0], bytes=60_040)
    clean(keys)
    wide = made("postgresql").ask(text, rows=40, columns=columns, widths=(400, 400, 400, 40_000))
    wide.rows[0] = msgspec.structs.replace(wide.rows[0], bytes=41_200)
    wide.path = wide.path.with_name("wide.jsonl")
    assert [f[:2] for f in wide.found()] == [("over-wide", "wide-columns")]
    (finding,) = findings(wide.path)
    assert "leave out remarks" in finding["advice"][0]["title"]


@pytest.mark.parametrize(
    "write, siblings", [("CALL tidy()", False), ("UPDATE berth SET depth_m = 3", True)]
)
def test_what_may_write_anything_stands_between_siblings(
    write: str, siblings: bool, made: Callable[[str], Made]
) -> None:
    request = made("mysql")
    for status in ("due", "berthed", "left"):
        request.ask(f"SELECT count(*) FROM port_call WHERE status = '{status}'").ask(write)
    assert ("sibling-filters" in [pattern for pattern, _, _ in request.found()]) == siblings


def wide_result(made: Made, text: str, columns: tuple[str, ...], width: int) -> Made:
    """A list of which the last column is wide."""
    widths = (*(80 for _ in columns[1:]), 40 * width)
    made.ask(text, rows=40, columns=columns, widths=widths)
    made.rows[0] = msgspec.structs.replace(made.rows[0], bytes=sum(widths))
    return made


def test_a_column_is_called_by_its_own_name(made: Callable[[str], Made]) -> None:
    text = (
        "SELECT port_call.id AS t0_r0, port_call.agent AS t0_r1, port_call.remarks AS t0_r2, vessel.id AS "
        "t1_r0, vessel.log AS t1_r1 FROM port_call LEFT OUTER JOIN vessel ON vessel.id = port_call.vessel_id"
    )
    columns = ("t0_r0", "t0_r1", "t0_r2", "t1_r0", "t1_r1")
    (finding,) = findings(wide_result(made("postgresql"), text, columns, 2_000).write())
    assert "vessel.log (2.0 KiB each)" in finding["title"]
    assert finding["advice"][0]["title"] == "leave out vessel.log"
    assert "t1_r1" not in str(finding["evidence_details"])
    assert "t1_r1" not in finding["advice"][0]["sql"]


@pytest.mark.parametrize(
    ("columns", "flagged"),
    [(("name", "value"), 0), (("id", "name", "value"), 0), (("name", "owner", "value"), 1)],
)
def test_what_a_lookup_is_for_is_not_left_out(
    columns: tuple[str, ...], flagged: int, made: Callable[[str], Made]
) -> None:
    text = f"SELECT {', '.join(columns)} FROM setting WHERE name IN ('tariff', 'tide')"
    assert len(wide_result(made("postgresql"), text, columns, 2_000).found()) == flagged


def test_columns_that_may_be_read_are_one_entry_at_the_end(made: Callable[[str], Made]) -> None:
    request = made("postgresql").parents()
    for key in VESSELS:
        request.ask("SELECT id, name FROM vessel WHERE id = $1", key)
    for table in ("berth", "tug", "pilot"):
        columns = ("id", "name", "remarks")
        text = f"SELECT id, name, remarks FROM {table}"
        before = len(request.rows)
        wide = wide_result(request, text, columns, 300).rows
        request.rows[before] = msgspec.structs.replace(wide[before], bytes=12_200)
    request.ask("SELECT id, picture FROM chart WHERE id > 3", rows=1, columns=("id", "picture"))
    request.rows[-1] = msgspec.structs.replace(request.rows[-1], bytes=900_000)
    path = request.write()
    document = run("findings", path, "--json").json
    wide_ones = [one for one in document["findings"] if one["pattern"] == "over-wide"]
    assert [one["severity"] for one in wide_ones] == ["minor"] * 3
    for form in ((), ("--format", "markdown")):
        shown = " ".join(run("findings", path, *form).out.split())
        assert "3 queries fetch wide columns (35.2 KiB in all)" in shown.replace("\\", "")
        assert not any(one["key"] in shown for one in wide_ones)
        assert all(one["key"] in shown for one in document["findings"] if one not in wide_ones)
    assert all(one["key"] in run("findings", path, "--all").out for one in wide_ones)
    alone = run("findings", path, "--pattern", "over-wide").out
    assert all(one["key"] in alone for one in wide_ones), "nothing else to show"
