"""The labelled corpus of `benchmarks/detection.py`: requests that ask too much in each way that
there is a pattern for, and traps.

Statements are written once, with `:p0` for what is given, and rendered in the styles of ORMs by the
bench. Each case is a list of requests of one route; most have one.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from typing import Any

import msgspec

from askless.core.records.model import CallSite, Wait
from askless.core.records.schema import ForeignKey, Table, TableColumn

Rows = Sequence[tuple[Any, ...]]
HOLD = CallSite("/app/customs.py", 12, "ask")


class Ask(msgspec.Struct, frozen=True):
    """One query: text, what is given, and what comes back. `gap_ms` is the time since the query
    before began.
    """

    text: str
    given: tuple[Any, ...] = ()
    rows: Rows = ()
    columns: tuple[str, ...] = ()
    count: int = -1  # rows, if they are more than those that are kept
    ms: float = 0.4
    gap_ms: float = 1.0
    inside: bool = False
    error: str = ""
    batch: int = 0
    widths: tuple[int, ...] = ()
    line: int = 10
    digest: int = 0
    connection: int = 1
    thread: int = 1

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the result's columns: told, or those between SELECT and FROM."""
        if self.columns or not self.rows:
            return self.columns
        listed = re.match(r"SELECT (?:DISTINCT )?(.*?) FROM ", self.text, re.S)
        parts = [part.strip() for part in listed[1].split(",")] if listed else []
        return tuple(part.rsplit(" AS ", 1)[-1].rsplit(".", 1)[-1] for part in parts)


class One(msgspec.Struct, frozen=True):
    """One request: its queries, if it was asked for, and what was waited for next to them."""

    asks: tuple[Ask, ...]
    path: str = ""
    at_s: float = 0.0
    errands: tuple[Wait, ...] = ()


class Case(msgspec.Struct, frozen=True):
    """A labelled case. `found` are pattern and variant of what is to be found; () for a trap.
    `systems`: if it can be.

    `whole`: what is to be found instead where a list reads whole rows, as some ORMs do.
    """

    name: str
    requests: tuple[One, ...]
    found: tuple[tuple[str, str], ...] = ()
    systems: tuple[str, ...] = ()
    whole: tuple[tuple[str, str], ...] = ()


def once(
    name: str, asks: Iterable[Ask], *found: tuple[str, str], systems: tuple[str, ...] = ()
) -> Case:
    """A case of one request."""
    return Case(name, (One(tuple(asks)),), found, systems)


IDS, VESSELS = [700 + i for i in range(6)], [9000 + 3 * i for i in range(6)]
CALLS = Ask(
    "SELECT port_call.id, port_call.vessel_id, port_call.agent FROM port_call WHERE port_call.status = :p0 ORDER BY port_call.eta",
    ("due",), [(call, vessel, f"agent {call}") for call, vessel in zip(IDS, VESSELS, strict=True)],
)  # fmt: skip
VESSEL = "SELECT vessel.id, vessel.name FROM vessel WHERE vessel.id = :p0"
JOBS = "SELECT tug_job.id, tug_job.tug_id FROM tug_job WHERE tug_job.port_call_id = :p0"
TUG = "SELECT tug.name FROM tug WHERE tug.id = :p0"


def each(
    text: str, keys: Iterable[Any], rows_of: Callable[[Any], Rows], *more: Any, **fields: Any
) -> list[Ask]:
    """A lookup for each key."""
    return [Ask(text, (key, *more), rows_of(key), **fields) for key in keys]


def _nested() -> list[Ask]:
    asks = [CALLS]
    for call in IDS:
        jobs = [(8000 + 2 * call + n, 50 + (call * 3 + n * 7) % 23) for n in range(2)]
        asks.append(Ask(JOBS, (call,), jobs))
        asks += each(TUG, [tug for _, tug in jobs], lambda k: [(f"Tug {k}",)], line=11)
    return asks


def _by_kind() -> list[Ask]:
    kinds = ["vessel", "tug", "vessel", "pilot", "tug", "pilot", "vessel", "vessel"]
    entries = [(1 + i, kind, 40 + 3 * i) for i, kind in enumerate(kinds)]
    listed = "SELECT log_entry.id, log_entry.subject_type, log_entry.subject_id FROM log_entry ORDER BY log_entry.id"
    return [
        Ask(listed, (), entries),
        *(Ask(f"SELECT {kind}.id, {kind}.name FROM {kind} WHERE {kind}.id = :p0", (key,), [(key, "x")]) for _, kind, key in entries),
    ]  # fmt: skip


def _product(calls: int, jobs: int, lines: int) -> Ask:
    rows = [
        (c, 100 * c + j, 1000 * c + n)
        for c in range(calls)
        for j in range(jobs)
        for n in range(lines)
    ]
    text = (
        "SELECT port_call.id, tug_job.id AS job_id, manifest_line.id AS line_id FROM port_call "
        "LEFT JOIN tug_job ON tug_job.port_call_id = port_call.id LEFT JOIN manifest_line ON manifest_line.port_call_id = port_call.id"
    )
    return Ask(text, (), rows[:32], count=len(rows))


def _found_or_made(signs: int, update: bool = False) -> list[Ask]:
    look = (
        "UPDATE vessel SET name = :p0 WHERE call_sign = :p1"
        if update
        else "SELECT vessel.id FROM vessel WHERE vessel.call_sign = :p0"
    )
    insert = "INSERT INTO vessel (name, call_sign) VALUES (:p0, :p1)"
    asks = []
    for n in range(signs):
        given = ("Tern", f"H{n:05}") if update else (f"H{n:05}",)
        asks += [Ask(look, given, (), count=0), Ask(insert, ("Tern", f"H{n:05}"), count=1, line=11)]
    return asks


def _held(
    wait_ms: float, known: bool, write: str = "UPDATE clearance SET state = :p0 WHERE id = :p1"
) -> Case:
    asks = (
        Ask("BEGIN"), Ask(write, ("asked", 7), count=1, inside=True),
        Ask("SELECT clearance.state FROM clearance WHERE clearance.id = :p0", (7,), [("asked",)], inside=True, gap_ms=wait_ms + 2),
        Ask("COMMIT", inside=True),
    )  # fmt: skip
    errand = Wait("http", "POST customs.example", 3_400_000, int(wait_ms * 1e6), HOLD)
    return Case(
        f"held for {wait_ms:g} ms, {'asking' if known else 'whatever for'}",
        (One(asks, errands=(errand,) if known else ()),),
        (("held-transaction", "locks held"),) if wait_ms >= (20 if known else 200) else (),
    )


def _stable(paths: int, reads: int = 20, changes: bool = False) -> tuple[One, ...]:
    text = "SELECT tariff.id, tariff.name FROM tariff WHERE tariff.valid = :p0"
    return tuple(
        One(
            (Ask(text, (1,), [(1, "a")], digest=n if changes else 77, ms=3),),
            f"/calls/{n % paths}",
            3.0 * n,
        )
        for n in range(reads)
    )


def _churn(text: Callable[[int], str], times: int = 24, **more: Any) -> tuple[One, ...]:
    return tuple(
        One((Ask(text(n), (), [(n,)], columns=("id",), digest=n + 1, **more),), f"/{n}", n)
        for n in range(times)
    )


DEADLOCK = "OperationalError: deadlock detected"
PROBLEMS = [
    once("to-one", [CALLS, *each(VESSEL, VESSELS, lambda k: [(k, "Tern")])], ("n-plus-one", "to-one")),
    once("to-many", [CALLS, *each(JOBS, IDS, lambda k: [(9 * k, k % 7), (9 * k + 1, k % 5)])], ("n-plus-one", "to-many")),
    once("nested", _nested(), ("n-plus-one", "to-many"), ("n-plus-one", "nested to-one")),
    once(
        "through a link table",
        [CALLS, *each("SELECT tug.id, tug.name FROM tug JOIN tug_job ON tug_job.tug_id = tug.id WHERE tug_job.port_call_id = :p0", IDS, lambda k: [(k % 5, "a"), (k % 7 + 9, "b")])],
        ("n-plus-one", "link-table"),
    ),
    once("count", [CALLS, *each("SELECT COUNT(*) AS n FROM tug_job WHERE tug_job.port_call_id = :p0", IDS, lambda k: [(k % 3,)])], ("n-plus-one", "count")),
    once("sum", [CALLS, *each("SELECT SUM(tug_job.minutes) AS n FROM tug_job WHERE tug_job.port_call_id = :p0", IDS, lambda k: [(k,)])], ("n-plus-one", "aggregate")),
    once("exists", [CALLS, *each("SELECT 1 AS a FROM tug_job WHERE tug_job.port_call_id = :p0 LIMIT 1", IDS, lambda _: [(1,)])], ("n-plus-one", "exists")),
    once(
        "exists through a link table",
        [CALLS, *each("SELECT 1 AS a FROM tug JOIN tug_job ON tug_job.tug_id = tug.id WHERE tug_job.port_call_id = :p0 LIMIT 1", IDS, lambda _: [(1,)])],
        ("n-plus-one", "exists"),
    ),
    once(
        "the first of each",
        [CALLS, *each("SELECT inspection.id, inspection.verdict FROM inspection WHERE inspection.port_call_id = :p0 ORDER BY inspection.inspected_at DESC LIMIT 1", IDS, lambda k: [(k + 7, "ok")])],
        ("n-plus-one", "first-of-each"),
    ),
    msgspec.structs.replace(once("the same row again, for a column", [CALLS, *each("SELECT port_call.id, port_call.draught_m FROM port_call WHERE port_call.id = :p0", IDS, lambda k: [(k, 7)])], ("n-plus-one", "same-row")), whole=(("already-loaded", ""),)),
    once("by kind", _by_kind(), ("n-plus-one", "polymorphic")),
    once(
        "already there",
        [
            Ask("SELECT berth.id, berth.name FROM berth ORDER BY berth.id", (), [(i, f"Quay {i}") for i in range(1, 9)]),
            *each("SELECT berth.id, berth.name FROM berth WHERE berth.id = :p0", range(1, 6), lambda k: [(k, f"Quay {k}")]),
        ],
        ("already-loaded", ""),
    ),
    once("the same again", [CALLS, *[Ask("SELECT tariff.rate FROM tariff WHERE tariff.name = :p0", ("quay dues",), [(50,)], digest=5)] * 3], ("duplicate", "")),
    once("a number for each status", each("SELECT COUNT(*) AS n FROM port_call WHERE port_call.status = :p0", ["due", "berthed", "departed", "waiting"], lambda k: [(len(k),)]), ("sibling-filters", "count")),
    once("a sum for each flag", each("SELECT SUM(vessel.gross_tonnage) AS n FROM vessel WHERE vessel.flag = :p0", ["NO", "DK", "SE", "FI"], lambda k: [(ord(k[0]),)]), ("sibling-filters", "aggregate")),
    once("a long text in a list", [Ask("SELECT inspection.id, inspection.verdict, inspection.report FROM inspection ORDER BY inspection.id LIMIT 40", (), [(i, "ok") for i in range(32)], ("id", "verdict", "report"), 40, widths=(320, 400, 90_000))], ("over-wide", "wide-columns")),
    once("two collections", [_product(40, 4, 10)], ("row-multiplication", "product")),
    once("two collections, large", [_product(20, 3, 14)], ("row-multiplication", "product")),
    once(
        "a join that only filters",
        [Ask("SELECT port_call.id, port_call.agent FROM port_call JOIN tug_job ON tug_job.port_call_id = port_call.id WHERE tug_job.tug_id = :p0", (3,), [(i // 4, "North") for i in range(32)], count=240)],
        ("row-multiplication", "parents again"),
    ),
    once(
        "a wide parent with each child",
        [Ask("SELECT inspection.id, inspection.verdict, defect.id AS defect_id FROM inspection JOIN defect ON defect.inspection_id = inspection.id", (), [(i // 5, "x", i) for i in range(32)], count=300, widths=(1500, 60_000, 1500))],
        ("row-multiplication", "wide parents"),
    ),
    once("all there is", [Ask("SELECT vessel.id, vessel.name FROM vessel ORDER BY vessel.id", (), [(i, "Tern") for i in range(32)], count=4000)], ("unbounded", "whole-table")),
    once("all that fit", [Ask("SELECT vessel.id, vessel.name FROM vessel WHERE vessel.flag = :p0 ORDER BY vessel.id", ("NO",), [(i, "Tern") for i in range(32)], count=900)], ("unbounded", "filtered")),
    once(
        "a subquery for each row",
        [Ask("SELECT vessel.id, (SELECT COUNT(*) FROM port_call WHERE port_call.vessel_id = vessel.id) AS calls FROM vessel WHERE vessel.flag = :p0", ("NO",), [(i, 3) for i in range(32)], ("id", "calls"), 60, ms=80)],
        ("subquery-per-row", ""),
    ),
    once("far behind", [Ask("SELECT port_call.id, port_call.agent FROM port_call ORDER BY port_call.id LIMIT 20 OFFSET 24000", (), [(i, "North") for i in range(20)])], ("deep-offset", "")),
    once("rows inserted one by one", [Ask("INSERT INTO tug (id, name) VALUES (:p0, :p1)", (n, f"Tug {n}"), count=1, inside=True) for n in range(8)], ("write-loop", "insert")),
    once("rows changed one by one", [Ask("UPDATE berth SET name = :p0 WHERE id = :p1", (f"Quay {n}", n), count=1) for n in range(8)], ("write-loop", "update, each committed separately")),
    once(
        "rows changed as they were read",
        [CALLS, *[Ask("UPDATE port_call SET agent = :p0 WHERE port_call.id = :p1", (f"North {n}", row[0]), count=1, inside=True) for n, row in enumerate(CALLS.rows)]],
        ("write-loop", "update"),
    ),
    once("rows deleted one by one", [Ask("DELETE FROM tug_job WHERE id = :p0", (n,), count=1, inside=True) for n in range(8)], ("write-loop", "delete")),
    once("looked for and inserted", _found_or_made(5), ("find-or-create", "find or create")),
    once("changed or inserted", _found_or_made(5, update=True), ("find-or-create", "update or insert")),
    once("a deadlock, tried again", [Ask(VESSEL, (7,), error=DEADLOCK), Ask(VESSEL, (7,), [(7, "Tern")])], ("failing", "deadlock")),
    once("a timeout", [Ask(VESSEL, (7,), error="OperationalError: canceling statement due to statement timeout", ms=900)], ("failing", "timeout")),
    once("a mistake", [Ask("SELECT vesel.name FROM vesel WHERE vesel.id = :p0", (7,), error="ProgrammingError: relation does not exist")], ("failing", "mistake")),
    once("a row that is there", [Ask("INSERT INTO tug (id, name) VALUES (:p0, :p1)", (1, "Tug"), error="IntegrityError: duplicate key value violates unique constraint")], ("failing", "conflict")),
    _held(60, known=True),
    _held(25, known=True),
    _held(240, known=False),
    Case("read for every request", _stable(6), (("stable-read", ""),)),
    Case("values in texts", _churn(lambda n: f"SELECT vessel.id FROM vessel WHERE vessel.call_sign = 'H{n:05}'"), (("literal-churn", ""),)),
    Case("numbers in texts", _churn(lambda n: f"SELECT port_call.id FROM port_call WHERE port_call.berth_id = {n} AND port_call.status = 'due'"), (("literal-churn", ""),)),
]  # fmt: skip

BATCH = "SELECT tug_job.id, tug_job.port_call_id FROM tug_job WHERE tug_job.port_call_id IN ({})"
PAGE = "SELECT vessel.id, vessel.name FROM vessel ORDER BY vessel.id LIMIT 20 OFFSET {}"
POLL = Ask(
    "SELECT clearance.state FROM clearance WHERE clearance.id = :p0",
    (7,),
    [("asked",)],
    digest=5,
    gap_ms=900,
)


def _batch(keys: Sequence[int], **more: Any) -> Ask:
    marks = ", ".join(f":p{n}" for n in range(len(keys)))
    return Ask(BATCH.format(marks), tuple(keys), [(10 * key, key) for key in keys], **more)


TRAPS = [
    once("batches of an eager load", [CALLS, _batch(IDS[:3]), _batch(IDS[3:])]),
    once("one batch", [CALLS, _batch(IDS)]),
    once("pages by OFFSET", [Ask(PAGE.format(20 * n), (), [(20 * n + i, "a") for i in range(20)]) for n in range(5)]),
    once("pages by key", [Ask("SELECT vessel.id, vessel.name FROM vessel WHERE vessel.id > :p0 ORDER BY vessel.id LIMIT 20", (20 * n,), [(20 * n + i + 1, "a") for i in range(20)]) for n in range(5)]),
    once("FETCHes of a cursor", [Ask("FETCH FORWARD 100 FROM names", (), [(100 * n + i,) for i in range(32)], ("id",), 100) for n in range(5)], systems=("postgresql",)),
    once(
        "read again after a write",
        [ask for n in range(4) for ask in (Ask("SELECT berth.name FROM berth WHERE berth.id = :p0", (3,), [("Quay",)], digest=5), Ask("UPDATE berth SET name = :p0 WHERE id = :p1", (f"Quay {n}", 3), count=1))],
    ),
    once("polling", [POLL] * 4),
    Case("the same lookup in many requests", _stable(1)),
    Case("results that change", _stable(6, changes=True)),
    once("three lookups of a page", [Ask(VESSEL, (7,), [(7, "Tern")]), Ask(TUG, (9,), [("Tug",)], line=11), Ask("SELECT berth.name FROM berth WHERE berth.id = :p0", (3,), [("Quay",)], line=12)]),
    once("two lookups of one shape", [Ask(VESSEL, (7,), [(7, "Tern")]), Ask(VESSEL, (9,), [(9, "Gull")], line=11)]),
    once("what the clock gives", [Ask("SELECT clearance.id FROM clearance WHERE clearance.ends > CURRENT_TIMESTAMP", (), [(1,)], digest=5)] * 3, systems=("mysql", "sqlite")),
    once("rows that are locked", [Ask("SELECT clearance.state FROM clearance WHERE clearance.id = :p0 FOR UPDATE", (n,), [("asked",)], inside=True) for n in range(5)], systems=("postgresql", "mysql")),
    once("side by side", [Ask(TUG, (n,), [("Tug",)], gap_ms=0, connection=n + 1, thread=n + 1, line=10 + n) for n in range(2)]),
    once("an executemany", [Ask("INSERT INTO tug (id, name) VALUES (:p0, :p1)", (1, "Tug"), count=400, batch=400)] * 2),
    once("many rows in a statement", [Ask("INSERT INTO tug (id, name) VALUES (:p0, :p1), (:p2, :p3)", (2 * n, "a", 2 * n + 1, "b"), count=2, inside=True) for n in range(6)]),
    once("grouped", [CALLS, Ask("SELECT tug_job.port_call_id, COUNT(*) AS n FROM tug_job GROUP BY tug_job.port_call_id", (), [(k, 2) for k in IDS])]),
    once("joined", [Ask("SELECT port_call.id, vessel.id AS vessel_id, vessel.name FROM port_call JOIN vessel ON vessel.id = port_call.vessel_id LIMIT 50", (), [(i, i % 9, "Tern") for i in range(32)], count=50)]),
    once("a small product", [_product(6, 2, 3)]),
    once("rows once", [Ask("SELECT DISTINCT port_call.id FROM port_call JOIN tug_job ON tug_job.port_call_id = port_call.id", (), [(i,) for i in range(32)], count=240)]),
    once("a short list of long texts", [Ask("SELECT inspection.id, inspection.report FROM inspection WHERE inspection.port_call_id = :p0", (7,), [(1,)], ("id", "report"), 1, widths=(8, 2300))]),
    once("a long list with its end", [Ask("SELECT vessel.id, vessel.name FROM vessel ORDER BY vessel.id LIMIT 400", (), [(i, "a") for i in range(32)], count=400)]),
    once("a quick subquery", [Ask("SELECT vessel.id, (SELECT COUNT(*) FROM port_call WHERE port_call.vessel_id = vessel.id) AS calls FROM vessel WHERE vessel.flag = :p0", ("NO",), [(i, 3) for i in range(32)], ("id", "calls"), 40, ms=3)]),
    once("near pages", [Ask(PAGE.format(900), (), [(i, "a") for i in range(20)])]),
    once("two ages of one table", each("SELECT COUNT(*) AS n FROM port_call WHERE port_call.status = :p0", ["due", "berthed"], lambda k: [(len(k),)])),
    once("few writes", [Ask("UPDATE berth SET name = :p0 WHERE id = :p1", (f"Quay {n}", n), count=1) for n in range(3)]),
    once("rows that are there", [CALLS, *each("SELECT vessel.id FROM vessel WHERE vessel.call_sign = :p0", ["H1", "H2"], lambda _: [(7,)]), Ask("INSERT INTO port_call (agent, status) VALUES (:p0, :p1)", ("North", "due"), count=1)]),
    _held(8, known=True),
    _held(30, known=False),
    _held(90, known=False),
    Case("constants in texts", _churn(lambda _: "SELECT port_call.id FROM port_call WHERE port_call.status = 'due' AND port_call.agent = 'North'")),
    Case("few texts", _churn(lambda n: f"SELECT port_call.id FROM port_call WHERE port_call.status = '{['due', 'berthed'][n % 2]}'")),
]  # fmt: skip


def _table(name: str, rows: int, columns: str, refers: str = "") -> Table:
    names = columns.split()
    keys = tuple(ForeignKey((f"{other}_id",), other) for other in refers.split())
    return Table(name, tuple(TableColumn(one, "INTEGER") for one in names), ("id",), keys, (), rows)


# What the statements are about: no index but the primary keys'.
TABLES = (
    _table("vessel", 4000, "id name call_sign flag gross_tonnage"), _table("berth", 24, "id name depth_m"),
    _table("port_call", 30_000, "id vessel_id berth_id status agent eta draught_m", "vessel berth"),
    _table("tug", 16, "id name"), _table("pilot", 30, "id name"),
    _table("tug_job", 45_000, "id port_call_id tug_id minutes", "port_call tug"),
    _table("manifest_line", 60_000, "id port_call_id goods", "port_call"),
    _table("inspection", 3000, "id port_call_id verdict report inspected_at", "port_call"),
    _table("tariff", 4, "id name rate valid"), _table("clearance", 2000, "id state ends"),
    _table("log_entry", 400, "id subject_type subject_id"), _table("defect", 9000, "id inspection_id", "inspection"),
)  # fmt: skip
