"""The harbour office on each database, at two sizes, and a capture of its pages."""

from __future__ import annotations

import subprocess
import sys
import textwrap
from collections.abc import Callable, Iterator
from contextlib import closing
from functools import cached_property
from pathlib import Path
from typing import Any

import pytest

from askless.database import alternatives_trial, clause_cost, finding_trial, index_trial, timing
from askless.database.servers import postgresql as server_of_postgresql
from tests import servers
from tests.conftest import HARBOUR, Running, run

SYSTEMS = ["sqlite", "postgresql", "mariadb"]
SERVERS = SYSTEMS[1:]
SCALES = {"harbour": 1, "harbour_large": 5}  # tenths of the full size
PAGES = [
    "/calls/due",
    "/calls/2990",
    "/berths",
    "/statistics",
    "/inspections",
    "/vessels",
    "/vessels/H00042",
]
_DRIVERS = {"postgresql": "postgresql+psycopg", "mariadb": "mysql+pymysql"}
_FILL = "import sys, data, sqlalchemy; data.fill(sqlalchemy.create_engine(sys.argv[1]), scale=int(sys.argv[2]))"


@pytest.fixture(autouse=True)
def short_measurements(monkeypatch: pytest.MonkeyPatch, request: pytest.FixtureRequest) -> None:
    """As few repetitions as a trial makes: what is tested is what it says, not how fast a machine
    is.

    Whether others are at work is looked at for as long as it takes where that is what is tested.
    """
    if request.module.__name__ != "tests.database.test_safety":
        monkeypatch.setattr(server_of_postgresql, "_LOOK_S", 0.02)
    for module, name in (
        (timing, "BUDGET_S"),
        (index_trial, "CONTROL_S"),
        (finding_trial, "BUDGET_S"),
        (alternatives_trial, "BUDGET_S"),
        (clause_cost, "BUDGET_S"),
    ):
        monkeypatch.setattr(module, name, 0.05)


class Office:
    """A database with the harbour office. `url` is as people write it, `app_url` as its application
    does.
    """

    def __init__(self, system: str, url: str, app_url: str, server: servers.Server | None) -> None:
        self.system = system
        self.url = url
        self.app_url = app_url
        self.server = server

    def connect(self, database: str = "") -> Any:
        """A connection of its driver, which commits by itself."""
        assert self.server is not None
        return self.server.connect(database or self.url.rsplit("/", 1)[-1])

    @cached_property
    def _watcher(self) -> Any:
        return self.connect()

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        """One statement on a connection that no one else uses."""
        cursor = self._watcher.cursor()
        cursor.execute(sql)
        return list(cursor.fetchall()) if cursor.description else []

    def close(self) -> None:
        """Let go of the connection that was asked last."""
        if "_watcher" in self.__dict__:
            self._watcher.close()

    def state(self) -> Any:
        """What a trial must leave as it was: databases, tables and indexes."""
        if self.system == "postgresql":
            return self.ask("SELECT relname, relkind FROM pg_class ORDER BY relname")
        wanted = "SELECT table_schema, table_name, index_name, seq_in_index FROM information_schema.statistics ORDER BY 1, 2, 3, 4"
        return [self.ask("SHOW DATABASES"), self.ask(wanted)]


@pytest.fixture(scope="session")
def office_of(
    running: Running, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Callable[..., Office]]:
    """The office of a system, filled at its first use."""
    made: dict[tuple[str, str], Office] = {}

    def office(system: str, size: str = "harbour") -> Office:
        if (system, size) not in made:
            made[system, size] = _filled(
                system, size, None if system == "sqlite" else running[system], tmp_path_factory
            )
        return made[system, size]

    yield office
    for each in made.values():
        each.close()


def _filled(
    system: str, size: str, server: servers.Server | None, folders: pytest.TempPathFactory
) -> Office:
    if server is None:
        url = f"sqlite:///{folders.mktemp(size)}/{size}.db"
        filled = Office(system, url, url, None)
    else:
        place = f"harbour{':tide' if system == 'mariadb' else ''}@127.0.0.1:{server.port}/{size}"
        filled = Office(system, f"{system}://{place}", f"{_DRIVERS[system]}://{place}", server)
        with closing(filled.connect("postgres" if system == "postgresql" else "harbour")) as first:
            if_new = "" if system == "postgresql" else "IF NOT EXISTS "
            first.cursor().execute(f"CREATE DATABASE {if_new}{size}")
    words = [sys.executable, "-c", _FILL, filled.app_url, str(SCALES[size])]
    subprocess.run(words, cwd=HARBOUR, check=True, timeout=180)
    if system == "postgresql":
        filled.ask("VACUUM ANALYZE")
    return filled


@pytest.fixture(params=SYSTEMS)
def office(request: pytest.FixtureRequest, office_of: Callable[..., Office]) -> Office:
    """The small office on each system in turn."""
    return office_of(request.param)


@pytest.fixture(params=SERVERS)
def served(request: pytest.FixtureRequest, office_of: Callable[..., Office]) -> Office:
    """The small office on each server in turn."""
    return office_of(request.param)


@pytest.fixture(scope="session")
def capture_of(tmp_path_factory: pytest.TempPathFactory) -> Callable[[Office], Path]:
    """A capture of the pages as they grew, on an office."""
    known: dict[str, Path] = {}

    def captured(office: Office) -> Path:
        if office.url not in known:
            folder = tmp_path_factory.mktemp("captured")
            driver = folder / "drive.py"
            driver.write_text(
                textwrap.dedent(f"""
                import sys
                sys.path.insert(0, {str(HARBOUR)!r})
                import app
                client = app.make_app({office.app_url!r}, "grown").test_client()
                for turn in range(4):
                    for page in {PAGES!r}:
                        assert client.get(page, headers={{"X-Ask-Less-Warm-Up": "1"}} if turn == 0 else {{}}).status_code == 200
                """)
            )
            ran = run("capture", "app", "-o", folder / "grown", "--", sys.executable, driver)
            assert ran.code == 0, ran.err
            known[office.url] = folder / "grown"
        return known[office.url]

    return captured
