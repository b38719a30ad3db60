"""Captures whose every text is hostile, a browser, and the packages from npm that pages and files
are checked with.
"""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from askless.core.records.model import CallSite
from tests.test_traffic import Made, written

SCRIPT = "<script>document.title='taken'</script>"
NODE = Path(__file__).parents[2] / ".node-tests" / "node_modules"


def loop(
    folder: Path,
    route: str,
    *,
    look_ups: int = 6,
    table: str = "vessel",
    place: CallSite | None = None,
) -> Made:
    """A request that lists calls and looks each one's vessel up."""
    made = Made(folder, "postgresql")
    made.route = route
    if place is not None:
        made.place = place
    made.parents()
    for key in range(look_ups):
        made.ask(
            f'SELECT id, name FROM "{table}" WHERE id = $1', 9000 + 3 * (key % 6) + 100 * (key // 6)
        )
    return made


@pytest.fixture(scope="session")
def hostile(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Route, table, column, file, function, values and errors that would be scripts, mark-up or
    moves of the cursor.
    """
    folder = tmp_path_factory.mktemp("hostile")
    place = CallSite(f"/app/{SCRIPT}|`x`.py", 7, f"{SCRIPT}\x1b[2J\u202e")
    made = loop(
        folder, f"GET /{SCRIPT}\x1b]0;taken\x07", place=place, table=f"v</style></script>{SCRIPT}"
    )
    made.ask(
        f"SELECT 1 AS \"{SCRIPT}\" FROM berth WHERE name = '{SCRIPT}' AND note = $1 -- {SCRIPT}",
        SCRIPT,
    )
    made.ask(
        "SELECT * FROM tariff WHERE id = $1",
        f'"><img src=x onerror={SCRIPT}>',
        error=f"{SCRIPT}: no such table",
    )
    made.ask("SELECT a FROM b WHERE c = 1 /* ``` | @harbour ![x](http://example.invalid) */")
    return written([made, made])


@pytest.fixture
def calls(tmp_path: Path) -> Callable[..., Path]:
    """A capture of requests that loop, as many routes as wanted."""

    def capture(
        routes: int = 3, name: str = "calls", look_ups: int = 6, file: str = "/app/pages.py"
    ) -> Path:
        folder = tmp_path / name
        folder.mkdir()
        return written(
            [
                loop(
                    folder,
                    f"GET /calls/{turn}",
                    look_ups=look_ups,
                    place=CallSite(file, 10 + turn, f"page_{turn}"),
                )
                for turn in range(routes)
            ]
        )

    return capture


FLAGS = (
    "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--disable-dev-shm-usage", "--window-size=1280,800",
)  # fmt: skip


class Browser:
    """A headless Chromium, and what it said and asked for."""

    def __init__(self, driver: Any) -> None:
        self.driver = driver

    def open(self, address: Path | str) -> Browser:
        self.driver.get_log("browser"), self.driver.get_log("performance")
        self.driver.get(address.as_uri() if isinstance(address, Path) else address)
        return self

    def all(self, selector: str) -> list[Any]:
        return self.driver.find_elements("css selector", selector)

    def one(self, selector: str) -> Any:
        return self.driver.find_element("css selector", selector)

    def shown(self, selector: str) -> list[Any]:
        return [element for element in self.all(selector) if element.is_displayed()]

    def js(self, code: str, *words: object) -> Any:
        return self.driver.execute_script(code, *words)

    def until(self, true: Callable[[], object]) -> None:
        from selenium.webdriver.support.ui import WebDriverWait

        WebDriverWait(self.driver, 30).until(lambda _: true())

    def complaints(self) -> list[str]:
        return [entry["message"] for entry in self.driver.get_log("browser")]

    def asked_for(self) -> list[str]:
        """The addresses that were asked for since it was opened, those omitted that the page's
        policy kept in.
        """
        messages = [
            json.loads(entry["message"])["message"] for entry in self.driver.get_log("performance")
        ]
        sent = [one for one in messages if one["method"] == "Network.requestWillBeSent"]
        failed = [one["params"] for one in messages if one["method"] == "Network.loadingFailed"]
        kept_in = {one["requestId"] for one in failed if one.get("blockedReason") == "csp"}
        return [
            one["params"]["request"]["url"]
            for one in sent
            if one["params"]["requestId"] not in kept_in
        ]


@pytest.fixture(scope="session")
def started(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Any]:
    from selenium import webdriver  # here, as tests of other formats need no browser

    options = webdriver.ChromeOptions()
    options.binary_location = shutil.which("chromium") or ""
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    for flag in (*FLAGS, f"--user-data-dir={tmp_path_factory.mktemp('chromium')}"):
        options.add_argument(flag)
    service = webdriver.ChromeService(executable_path=shutil.which("chromedriver"))
    driver = webdriver.Chrome(options=options, service=service)
    yield driver
    driver.quit()


@pytest.fixture
def browser(started: Any) -> Iterator[Browser]:
    yield Browser(started)
    started.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": False})
    started.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "", "features": []})
    started.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})
