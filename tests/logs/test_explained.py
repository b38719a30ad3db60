"""Plans that PostgreSQL's auto_explain writes: each with its query, whatever the settings, and read
by `plan` without a database.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import askless
from askless.sources.logs.postgresql_records import Record, Records
from tests import servers
from tests.conftest import refused, run

PLANS = {
    "shared_preload_libraries": "auto_explain", "auto_explain.log_min_duration": 0, "auto_explain.log_analyze": "on",
    "auto_explain.log_nested_statements": "on", "log_line_prefix": "%m [%p] ",
}  # fmt: skip
SETTINGS: dict[str, dict[str, object]] = {
    "durations": {"log_min_duration_statement": 0},
    "as JSON": {
        "log_min_duration_statement": 0,
        "auto_explain.log_format": "json",
        "auto_explain.log_verbose": "on",
    },
    "statements first": {"log_statement": "all", "log_duration": "on"},
    "statements without durations": {"log_statement": "all"},
    "plans alone": {},
}
LOOK_UP = "SELECT name\nFROM vessel WHERE id = $1"
CALLED = "SELECT named(3)"
SORTED = "SELECT name FROM vessel WHERE name <> 'Query Text: x' ORDER BY name"


def asked(server: servers.Server) -> None:
    with server.connect("postgres") as connection:
        connection.execute("CREATE TABLE vessel (id int PRIMARY KEY, name text)")
        connection.execute(
            "INSERT INTO vessel SELECT n, 'Tern ' || n FROM generate_series(1, 60) n"
        )
        connection.execute(
            "CREATE FUNCTION named(k int) RETURNS text LANGUAGE plpgsql AS $$ BEGIN RETURN (SELECT name FROM vessel WHERE id = k); END $$"
        )
        for key in (3, 4, 5):
            connection.execute("SELECT name\nFROM vessel WHERE id = %s", [key])
        connection.execute(CALLED)
        connection.execute(
            "PREPARE one(int, text) AS SELECT id FROM vessel WHERE id = $1 AND name <> $2"
        )
        connection.execute("EXECUTE one(7, 'it''s')")
        connection.execute(SORTED)


@pytest.fixture(scope="module")
def logs(tmp_path_factory: pytest.TempPathFactory) -> Iterator[dict[str, Path]]:
    """Logs of PostgreSQL under each setting, and one in a form that is not read."""
    folder = tmp_path_factory.mktemp("explained")
    found = {}
    for name, settings in {**SETTINGS, "XML": {"auto_explain.log_format": "xml"}}.items():
        with servers.postgresql(logging=False, more={**PLANS, **settings}) as server:
            asked(server)
            server.connect("postgres").close()
            found[name] = folder / f"{name.replace(' ', '-')}.log"
            found[name].write_bytes(server.log.read_bytes())
    yield found


def captured(log: Path, out: Path) -> list[Any]:
    assert run("capture", "log", log, "-o", out, "--prefix", "%m [%p] ").code == 0
    return list(askless.read(out, values=True).queries)


@pytest.mark.parametrize("name", SETTINGS)
def test_each_plan_is_with_its_query(name: str, logs: dict[str, Path], tmp_path: Path) -> None:
    queries = captured(logs[name], tmp_path / "calls")
    own = [one.statement for one in queries if one.statement.startswith("SELECT")]
    prepared = [text for text in own if text.startswith("SELECT id")]
    assert [text for text in own if text not in prepared] == [LOOK_UP] * 3 + [CALLED, SORTED]
    # What EXECUTE ran; a log of plans alone has it in its own words.
    assert len(prepared) == (name != "plans alone")
    document = run("plan", tmp_path / "calls", "--top", "20", "--json").json
    by_text = {row["sql"]: row for row in document["statements"]}
    assert document["system"] == "postgresql" and not any(row["error"] for row in by_text.values())
    look_up = by_text[LOOK_UP]
    assert look_up["plan"][0]["kind"] == "index search" and look_up["queries"] == 3
    assert "3 plans" in look_up["remark"]
    kinds = {text: row["plan"][0]["kind"] for text, row in by_text.items()}
    assert kinds["SELECT name FROM vessel WHERE name <> ? ORDER BY name"] == "sort"
    assert kinds["SELECT named(?)"] == "constant rows"
    assert not any("k)" in text or "'Query" in str(row) for text, row in by_text.items()), (
        "of a function, or unmasked"
    )
    if prepared:
        assert kinds["SELECT id FROM vessel WHERE id = $1 AND name <> $2"] == "index search"
        (executed,) = [one for one in queries if one.statement in prepared]
        assert executed.parameters == '7, "it\'s"'


def test_a_request_a_query_and_a_shape_are_chosen(logs: dict[str, Path], tmp_path: Path) -> None:
    captured(logs["durations"], tmp_path / "calls")
    (request, *_) = run("requests", tmp_path / "calls", "--each", "--json").json["requests"]
    rows = run("plan", tmp_path / "calls", "--json").json["statements"]
    one = run("plan", tmp_path / "calls", "--shape", rows[-1]["shape"], "--json").json["statements"]
    assert [row["shape"] for row in one] == [rows[-1]["shape"]]
    placed = run(
        "plan", tmp_path / "calls", "--request", request["name"], "--query", "4", "--json"
    ).json["statements"]
    assert [row["sql"] for row in placed] == [LOOK_UP]
    shown = run("plan", tmp_path / "calls", "--values").out
    assert "Query Text: x" in shown and "Query Text: x" not in run("plan", tmp_path / "calls").out


def test_without_plans_a_database_is_asked_for(logs: dict[str, Path], tmp_path: Path) -> None:
    ran = run("capture", "log", logs["XML"], "-o", tmp_path / "calls", "--prefix", "%m [%p] ")
    assert "auto_explain.log_format" in ran.err
    refused(run("plan", tmp_path / "calls"), "calls")
    lines = logs["durations"].read_text().replace("  plan:", "  elsewhere:")
    (tmp_path / "bare.log").write_text(lines)
    captured(tmp_path / "bare.log", tmp_path / "bare")
    refused(run("plan", tmp_path / "bare"), "contains no plans", "--db")


def test_queries_keep_the_order_of_their_ends() -> None:
    """A plan that may still come holds back what other sessions say meanwhile, and not for longer
    than it can take.
    """

    def at(ms: int, session: str, message: str) -> list[str]:
        return [
            said.query.text
            for said in records.take(Record(ms * 1_000_000, session, "LOG", message))
            if said.query is not None
        ]

    records = Records()
    assert at(1, "a", "duration: 1 ms  execute <unnamed>: SELECT 1") == []
    assert at(2, "b", "duration: 1 ms  statement: SELECT 2") == []
    assert at(3, "b", "duration: 1 ms  statement: SELECT 3") == []
    assert (
        at(
            4,
            "a",
            "duration: 1 ms  plan:\nQuery Text: SELECT 1\nResult  (cost=0..1 rows=1 width=4)",
        )
        == []
    )
    assert at(5, "a", "duration: 1 ms  execute <unnamed>: SELECT 4") == [
        "SELECT 1",
        "SELECT 2",
        "SELECT 3",
    ]
    assert at(500, "b", "duration: 1 ms  statement: SELECT 5") == ["SELECT 4"]
    assert [said.query.text for said in records.close() if said.query is not None] == ["SELECT 5"]
