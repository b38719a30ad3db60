"""The page in a real browser: nothing from outside, nothing that runs but our own script, and all
of it by keyboard.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from askless.output.page import PAGE_MOST_BYTES, page
from askless.reports import documents
from tests.conftest import findings, refused, run
from tests.output.conftest import NODE, SCRIPT, Browser
from tests.test_growth import page as sized
from tests.test_traffic import Made, written


def report(capture: Path, out: Path, *words: object) -> Path:
    ran = run("report", capture, "-o", out, *words)
    assert ran.code == 0, ran.err
    assert out.stat().st_mode & 0o777 == 0o600
    return out


@pytest.fixture(scope="module")
def whole(pages: dict[str, Path], harbour: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    out = tmp_path_factory.mktemp("report") / "calls.html"
    return report(pages["grown"], out, "--db", f"sqlite:///{harbour}", "--compare", pages["tuned"])


def test_every_part_is_there_and_nothing_comes_from_outside(
    browser: Browser, whole: Path, pages: dict[str, Path]
) -> None:
    browser.open(whole)
    assert [heading.text for heading in browser.all("h2")] == [
        "Where the time goes", "Before and after", "What to change", "Requests in time", "Growth", "Plans", "Indexes",
    ]  # fmt: skip
    assert browser.complaints() == [] and browser.asked_for() == [whole.as_uri()]
    found = findings(pages["grown"])
    assert {story.get_attribute("id") for story in browser.all("details.story")} == {
        f["key"] for f in found
    }
    rows = run("requests", pages["grown"], "--json").json["routes"]
    assert len(browser.all(".routes tbody tr")) == len(rows) == len(browser.all(".timeline"))
    assert all(link.get_attribute("href") for link in browser.all("nav a"))
    assert (
        len(browser.all(".plan .tree li")) >= 5 and "CREATE INDEX" in browser.one("#indexes").text
    )


def test_the_same_words_as_in_the_terminal(
    browser: Browser, whole: Path, pages: dict[str, Path], harbour: Path
) -> None:
    browser.open(whole)
    browser.one("#unfold").click()
    told = " ".join(browser.one("#change").text.split())
    for edit in run("findings", pages["grown"], "--json", "--db", f"sqlite:///{harbour}").json[
        "edits"
    ]:
        assert edit["title"] in told and " ".join(edit["code"].split()) in told
    for finding in findings(pages["grown"], "--db", f"sqlite:///{harbour}"):
        assert all(reason in told for reason in finding["evidence_details"]), finding[
            "evidence_details"
        ]
        assert all(check in told for advice in finding["advice"] for check in advice["verify"])


def test_search_folding_and_keyboard(browser: Browser, whole: Path) -> None:
    browser.open(whole).one("body").send_keys(Keys.TAB)
    skip = browser.driver.switch_to.active_element
    assert skip.text == "Skip to the report" and skip.get_attribute("href").endswith("#report")
    edits = len(browser.shown(".edits > li"))
    browser.one("body").send_keys("/")
    field = browser.driver.switch_to.active_element
    assert field.get_attribute("id") == "search"
    field.send_keys("tug_job")
    assert 0 < len(browser.shown(".edits > li")) < edits and "found" in browser.one("#hits").text
    field.send_keys("no such thing")
    assert browser.shown(".edits > li") == [] and browser.one("#hits").text == "0 found"
    field.send_keys(Keys.ESCAPE)
    assert len(browser.shown(".edits > li")) == edits and field.get_attribute("value") == ""
    closed = next(
        story for story in browser.all("details.story") if story.get_attribute("open") is None
    )
    summary = closed.find_element(By.TAG_NAME, "summary")
    summary.send_keys(Keys.ENTER)
    assert closed.get_attribute("open") and closed.find_element(By.TAG_NAME, "h4").is_displayed()
    browser.one("#unfold").send_keys(Keys.SPACE)
    assert all(
        story.get_attribute("open") for story in browser.all("details.story, details.timeline")
    )


def test_a_link_to_a_finding_opens_it(browser: Browser, whole: Path) -> None:
    key = browser.open(whole).all("details.story")[-1].get_attribute("id")
    browser.open("about:blank").open(f"{whole.as_uri()}#{key}")
    assert browser.one(f"details[id='{key}']").get_attribute("open")


def test_a_timeline_is_zoomed(browser: Browser, whole: Path) -> None:
    browser.open(whole)

    def drawn() -> tuple[float, float]:
        box = browser.js(
            "const b = document.querySelector('.lanes svg').getBoundingClientRect(); return [b.left, b.width]"
        )
        return box[0], box[1]

    left, width = drawn()
    zoom, start = browser.all(".zoom input")[:2]
    browser.js("arguments[0].value = 4; arguments[0].dispatchEvent(new Event('input'))", zoom)
    assert drawn()[1] == pytest.approx(4 * width, rel=0.02) and drawn()[0] == pytest.approx(
        left, abs=1
    )
    browser.js("arguments[0].value = 1; arguments[0].dispatchEvent(new Event('input'))", start)
    assert drawn()[0] == pytest.approx(left - 3 * width, rel=0.02)
    start_ms, end_ms = (float(browser.one(f".lanes {name}").text) for name in (".from", ".to"))
    total_ms = float(browser.one(".lanes").get_attribute("data-ms"))
    assert start_ms == pytest.approx(total_ms * 0.75, rel=0.02) and end_ms == pytest.approx(
        total_ms, rel=0.02
    )


@pytest.mark.parametrize("scheme", ["light", "dark"])
@pytest.mark.parametrize("width", [1280, 400])
def test_an_accessibility_checker_finds_nothing_serious(
    scheme: str, width: int, browser: Browser, whole: Path, hostile: Path, tmp_path: Path
) -> None:
    metrics = {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    browser.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)
    features = [{"name": "prefers-color-scheme", "value": scheme}]
    browser.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": features})
    for path in (whole, report(hostile, tmp_path / "hostile.html", "--values")):
        browser.open(path)
        browser.one("#unfold").click()
        browser.js("document.querySelectorAll('details').forEach((part) => { part.open = true; })")
        browser.driver.execute_cdp_cmd(
            "Runtime.evaluate", {"expression": (NODE / "axe-core/axe.min.js").read_text()}
        )
        result = browser.driver.execute_async_script(
            "axe.run(document, {resultTypes: ['violations']}).then(arguments[arguments.length - 1])"
        )
        bad = [(one["id"], one["impact"], one["nodes"][0]["html"]) for one in result["violations"]]
        assert [one for one in bad if one[1] in ("serious", "critical")] == [] and len(
            result["passes"]
        ) > 5
        # The page itself never scrolls sideways: wide tables do, in their own frames.
        assert browser.js(
            "return document.documentElement.scrollWidth <= document.documentElement.clientWidth"
        )


def test_dark_is_dark(browser: Browser, whole: Path) -> None:
    def paper() -> str:
        return str(browser.js("return getComputedStyle(document.body).backgroundColor"))

    browser.open(whole)
    light = paper()
    features = [{"name": "prefers-color-scheme", "value": "dark"}]
    browser.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": features})
    dark = paper()
    assert light != dark and sum(json.loads(f"[{dark[4:-1]}]")) < 200 < 600 < sum(
        json.loads(f"[{light[4:-1]}]")
    )
    for name, expected in (("light", light), ("dark", dark)):
        browser.js(
            "const s = document.getElementById('theme'); s.value = arguments[0]; s.dispatchEvent(new Event('change'))",
            name,
        )
        assert paper() == expected


def test_hostile_texts_stay_text(browser: Browser, hostile: Path, tmp_path: Path) -> None:
    browser.open(report(hostile, tmp_path / "hostile.html", "--values"))
    assert browser.driver.title.startswith("What ") and "taken" not in browser.driver.title
    assert (
        len(browser.all("script")) == 1
        and browser.all("main img, main script, main style, main iframe") == []
    )
    assert browser.complaints() == []
    text = (tmp_path / "hostile.html").read_text()
    assert "\x1b" not in text and "\u202e" not in text and "&lt;script&gt;document.title" in text
    browser.js("document.querySelectorAll('details').forEach((part) => { part.open = true; })")
    shown = browser.one("main").text
    assert shown.count(SCRIPT) >= 8 and "onerror" in shown


def test_the_policy_lets_nothing_in(browser: Browser, whole: Path) -> None:
    browser.open(whole)
    browser.js(
        "const s = document.createElement('script'); s.textContent = 'document.title = \"taken\"'; document.body.append(s);"
        "const i = document.createElement('img'); i.src = 'https://example.invalid/x.png'; document.body.append(i);"
        "const f = document.createElement('div'); f.innerHTML = '<p onclick=\"document.title=1\" style=\"color:red\">x</p>';"
        "document.body.append(f); f.firstChild.click()"
    )
    assert browser.driver.title.startswith("What ")
    assert len([one for one in browser.complaints() if "Content Security Policy" in one]) >= 3
    assert [address for address in browser.asked_for() if "example" in address] == []


def test_values_are_shown_only_where_asked_for(hostile: Path, tmp_path: Path) -> None:
    masked = report(hostile, tmp_path / "masked.html").read_text()
    assert (
        "onerror" not in masked
        and "onerror" in report(hostile, tmp_path / "open.html", "--values").read_text()
    )


def test_all_of_it_is_read_without_scripts(browser: Browser, whole: Path) -> None:
    browser.driver.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": True})
    browser.open(whole)
    assert not browser.one("#tools").is_displayed() and len(browser.shown(".edits > li")) > 3
    browser.all("details.story > summary")[-1].click()
    assert browser.all("details.story")[-1].get_attribute("open") is not None


def test_on_paper_everything_is_unfolded(browser: Browser, whole: Path) -> None:
    browser.driver.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": True})
    browser.open(whole)
    browser.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "print"})
    seen = "return [...document.querySelectorAll('details.story h4')].map((h) => h.checkVisibility() && h.offsetHeight > 0)"
    assert all(browser.js(seen)) and len(browser.js(seen)) > 20
    assert browser.driver.execute_cdp_cmd("Page.printToPDF", {})["data"]


def test_growth_is_drawn_with_its_numbers(browser: Browser, tmp_path: Path) -> None:
    capture = written([sized(tmp_path, calls) for calls in (5, 10, 20, 40)])
    browser.open(report(capture, tmp_path / "growth.html"))
    assert len(browser.all(".growth svg")) == 2 and len(browser.all(".growth svg circle")) == 8
    row = run("growth", capture, "--json").json["routes"][0]
    told = browser.one(".growth").text
    assert f"queries = {row['formula']}" in told and "a hundred times" in told


def test_a_capture_of_many_findings_opens_at_once_and_says_what_it_left_out(
    browser: Browser, calls: Callable[..., Path], tmp_path: Path
) -> None:
    out = report(calls(620), tmp_path / "many.html")
    browser.open(out)
    assert len(browser.all("details.story")) == 500 and out.stat().st_size < PAGE_MOST_BYTES
    notes = [note.text for note in browser.all(".front .note")]
    assert any(
        note.startswith("left out: 620 findings more than the 500") or "findings more" in note
        for note in notes
    )
    assert browser.complaints() == []


def test_a_page_stays_below_its_size(tmp_path: Path) -> None:
    long = (
        "SELECT "
        + ", ".join(f"column_{number}" for number in range(20_000))
        + " FROM vessel WHERE id = $1"
    )
    requests = []
    for turn in range(80):
        made = Made(tmp_path, "postgresql")
        made.route = f"GET /{turn}"
        requests.append(made.parents())
        for key in range(6):
            made.ask(long, 9000 + 3 * key)
    written(requests)
    document = run("report", tmp_path / "made.jsonl", "--json").json
    import msgspec

    content = page(msgspec.convert(document, documents.ReportDocument))
    assert len(content) < PAGE_MOST_BYTES and b"characters more" in content


def test_what_a_page_gets_of_bad_input(pages: dict[str, Path], tmp_path: Path) -> None:
    refused(run("report", tmp_path / "nowhere", "-o", tmp_path / "x.html"), "no capture at")
    refused(run("report", pages["grown"], "-o", tmp_path / "x.pdf"), ".json or .html")
    refused(run("report", pages["grown"], "-o", tmp_path / "none" / "x.html"), "no folder")
    (tmp_path / "taken.html").mkdir()
    refused(run("report", pages["grown"], "-o", tmp_path / "taken.html"), "can't write")
    assert [path.name for path in tmp_path.iterdir()] == ["taken.html"], (
        "nothing half-written is left"
    )
    refused(
        run("report", pages["grown"], "-o", tmp_path / "x.html", "--db", "sqlite:////nowhere/x.db")
    )
    torn = tmp_path / "torn.jsonl"
    torn.write_bytes(next(pages["grown"].glob("*.jsonl")).read_bytes()[:-400])
    ran = run("report", torn, "-o", tmp_path / "torn.html")
    assert (
        ran.code == 0
        and "torn" in ran.err
        and "the last line is torn" in (tmp_path / "torn.html").read_text()
    )


def test_a_database_of_something_else_leaves_the_rest(
    pages: dict[str, Path], tmp_path: Path
) -> None:
    import sqlite3

    with sqlite3.connect(tmp_path / "other.db") as db:
        db.execute("CREATE TABLE other (id INTEGER)")
    out = report(pages["grown"], tmp_path / "x.html", "--db", f"sqlite:///{tmp_path}/other.db")
    assert (
        "the report has no plans and no indexes" in out.read_text()
        and 'id="change"' in out.read_text()
    )
