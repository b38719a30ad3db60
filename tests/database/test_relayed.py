"""What the relay finds of an application is what the recorder finds in it."""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import HARBOUR, findings, program
from tests.database.conftest import Office
from tests.servers import free_port

PYTHON = sys.executable


@pytest.mark.parametrize("system", ["postgresql", "mariadb"])
def test_the_relay_finds_what_the_recorder_finds(
    system: str, office_of: Callable[..., Office], tmp_path: Path
) -> None:
    """The same application at the same time: recorded from inside, and on the wire."""
    office, web = office_of(system), free_port()
    assert office.server is not None
    visits = [
        word
        for page in ("calls/due", "berths", "statistics")
        for word in ("--visit", f"http://127.0.0.1:{web}/{page}")
    ]
    inner = [
        PYTHON,
        "-m",
        "askless",
        "capture",
        "app",
        "-o",
        tmp_path / "inside",
        "--",
        PYTHON,
        HARBOUR / "app.py",
    ]
    ran = program(
        "capture", "relay", "-o", tmp_path / "wire", "--to", f"{system}://127.0.0.1:{office.server.port}", *visits,
        "--repeat", "2", "--", "sh", "-c", f'exec "$@" "$DATABASE_URL" --port {web}', "sh", *inner,
        env={"DATABASE_URL": office.app_url},
    )  # fmt: skip
    assert ran.code == 0, ran.err
    kinds = [
        Counter(
            (f["route"], f["pattern"], f["variant"], f["evidence"], f["cost"]["queries"])
            for f in findings(tmp_path / where)
        )
        for where in ("inside", "wire")
    ]
    assert kinds[0] == kinds[1] and sum(kinds[0].values()) >= 5
