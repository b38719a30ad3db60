"""failing: errors by kind, their retries, and what they may not show."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, strategies as st

from askless.core.inference.failures import Failure, failure_of, masked_error
from tests.conftest import findings, run
from tests.test_traffic import Made

LOOK = "SELECT id, name FROM vessel WHERE call_sign = $1"
SAID = [
    (
        "DeadlockDetected: deadlock detected\nDETAIL: Process 7 waits for ShareLock",
        Failure.DEADLOCK,
    ),
    (
        "OperationalError: (1213, 'Deadlock found when trying to get lock; try restarting transaction')",
        Failure.DEADLOCK,
    ),
    (
        "SerializationFailure: could not serialize access due to concurrent update",
        Failure.COLLISION,
    ),
    (
        "OperationalError: (1205, 'Lock wait timeout exceeded; try restarting transaction')",
        Failure.TIME_OUT,
    ),
    ("QueryCanceled: canceling statement due to statement timeout", Failure.TIME_OUT),
    ("OperationalError: database is locked", Failure.TIME_OUT),
    ("IntegrityError: UNIQUE constraint failed: vessel.call_sign", Failure.CONFLICT),
    (
        'UniqueViolation: duplicate key value violates unique constraint "vessel_pkey"',
        Failure.CONFLICT,
    ),
    ("IntegrityError: (1062, \"Duplicate entry 'H00042' for key 'call_sign'\")", Failure.CONFLICT),
    ('NotNullViolation: null value in column "name" of relation "vessel"', Failure.CONSTRAINT),
    ("IntegrityError: FOREIGN KEY constraint failed", Failure.CONSTRAINT),
    ("OperationalError: (2013, 'Lost connection to server during query')", Failure.CONNECTION),
    ("OperationalError: no such column: vesel.name", Failure.MISTAKE),
    ('UndefinedTable: relation "vesel" does not exist', Failure.MISTAKE),
    ('UndefinedTable: relation "connection" does not exist', Failure.MISTAKE),
    ("IntegrityError: (1062, \"Duplicate entry 'deadlock' for key 'name'\")", Failure.CONFLICT),
    ("DataError: value too long for type character varying(10)", Failure.OTHER),
]


@pytest.mark.parametrize("text, failure", SAID)
def test_kinds_as_drivers_word_them(text: str, failure: Failure) -> None:
    assert failure_of(text) is failure


MASKED = [
    (
        "(1062, \"Duplicate entry 'H00042' for key 'call_sign'\")",
        "1062 Duplicate entry ? for key 'call_sign'",
    ),
    ('invalid input syntax for type integer: "H00042"', "invalid input syntax for type integer: ?"),
    ("Key (call_sign)=(H00042, 7) already exists.", "Key (call_sign)=(?) already exists."),
    ('relation "vesel" does not exist', 'relation "vesel" does not exist'),
    ("it failed\nDETAIL: the row is (7, H00042)", "it failed"),
    ("value 12345 is out of range", "value ? is out of range"),
]


@pytest.mark.parametrize("text, shown", MASKED)
def test_errors_are_shown_without_values(text: str, shown: str) -> None:
    assert masked_error(text) == shown


@given(st.text(st.characters(codec="ascii", exclude_characters="'\"`\n\r\\"), min_size=1))
def test_no_quoted_value_gets_through(value: str) -> None:
    for quote in "'\"":
        assert masked_error(f"Duplicate entry: {quote}{value}{quote}") == "Duplicate entry: ?"


def failing(made: Made) -> list[dict[str, Any]]:
    return findings(made.write())


def test_a_retry_is_told_and_no_repetition(tmp_path: Path) -> None:
    made = Made(tmp_path, "postgresql")
    for _ in range(4):
        made.ask(LOOK, "H00042", error="DeadlockDetected: deadlock detected")
    (finding,) = failing(made.ask(LOOK, "H00042"))
    assert (finding["pattern"], finding["variant"], finding["severity"]) == (
        "failing",
        "deadlock",
        "worthwhile",
    )
    assert "4 of 5 executions of SELECT vessel" in finding["title"]
    assert any(
        "4 of 4 were asked again in their request, 4 of them with success" in one
        for one in finding["evidence_details"]
    )
    assert "same order" in finding["advice"][0]["title"]


def test_what_never_worked_is_told_apart_from_what_sometimes_fails(tmp_path: Path) -> None:
    (tmp_path / "a").mkdir()
    (never,) = failing(
        Made(tmp_path, "sqlite").ask(
            "SELECT nme FROM vessel", error="OperationalError: no such column: nme"
        )
    )
    sometimes = (
        Made(tmp_path / "a", "sqlite")
        .ask(LOOK, "a")
        .ask(LOOK, "b", error="OperationalError: no such column: x")
    )
    (once,) = failing(sometimes)
    assert (
        "it never worked" in never["advice"][0]["why"] and "with others" in once["advice"][0]["why"]
    )


def test_a_statement_that_nobody_can_read_is_told_too(tmp_path: Path) -> None:
    (finding,) = failing(
        Made(tmp_path, "sqlite").ask("SELEC 1", error="OperationalError: syntax error")
    )
    assert finding["tables"] == [] and finding["variant"] == "mistake"


def test_a_conflict_is_minor_and_gets_the_statement_that_decides(tmp_path: Path) -> None:
    text = "INSERT INTO vessel (call_sign, name) VALUES ($1, $2)"
    (finding,) = failing(
        Made(tmp_path, "postgresql").ask(
            text, "a", "b", error="UniqueViolation: duplicate key value"
        )
    )
    assert finding["severity"] == "minor" and "ON CONFLICT" in finding["advice"][0]["sql"]


def test_the_timeline_masks_what_the_error_says(tmp_path: Path) -> None:
    path = (
        Made(tmp_path, "mysql")
        .ask(LOOK, "a", error="(1062, \"Duplicate entry 'H00042' for key 'sign'\")")
        .write()
    )
    assert "H00042" not in run("timeline", path).out
    assert "H00042" in run("timeline", path, "--values").out
