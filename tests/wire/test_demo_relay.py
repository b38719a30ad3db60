"""The demo in another language: the office's pages in JavaScript, over a relay."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from tests.conftest import findings, program
from tests.servers import Server


@pytest.mark.skipif(shutil.which("node") is None, reason="Node.js is not installed")
def test_the_office_in_javascript(postgresql: Server, tmp_path: Path) -> None:
    with postgresql.connect("postgres") as setup:
        setup.execute("DROP DATABASE IF EXISTS office_in_javascript")
        setup.execute("CREATE DATABASE office_in_javascript")
    url = f"postgresql://harbour@127.0.0.1:{postgresql.port}/office_in_javascript"
    ran = program("demo", "--out", tmp_path / "demo", "--relay", url, "--repeat", "2")
    assert ran.code == 0, ran.err
    found = {
        (f["route"], f["tables"][0], f["evidence"])
        for f in findings(tmp_path / "demo" / "relay-grown")
        if f["pattern"] == "n-plus-one"
    }
    assert found == {("GET /calls/due", "vessel", "traced"), ("GET /calls/due", "tug_job", "traced"),
                     ("GET /calls/due", "tug", "traced"), ("GET /berths", "port_call", "traced")}  # fmt: skip
    assert findings(tmp_path / "demo" / "relay-tuned") == []
    assert (
        "for the relation from port_call to tug_job" in ran.out
        and "the line of code is unknown" in ran.out
    )


def test_a_database_of_somebody_elses_is_left_alone(postgresql: Server, tmp_path: Path) -> None:
    with postgresql.connect("postgres") as setup:
        setup.execute("CREATE TABLE IF NOT EXISTS somebody_elses (id int)")
    url = f"postgresql://harbour@127.0.0.1:{postgresql.port}/postgres"
    ran = program("demo", "--out", tmp_path / "demo", "--relay", url)
    assert ran.code == 2 and ("has tables already" in ran.err or "install Node.js" in ran.err)
    ran = program("demo", "--out", tmp_path / "demo", "--relay", "mysql://127.0.0.1/x")
    assert ran.code == 2 and (
        "takes a URL of PostgreSQL" in ran.err or "install Node.js" in ran.err
    )
