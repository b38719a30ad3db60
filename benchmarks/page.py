"""How long a report takes to be written and to be opened, and how large it is: what docs/report.md
claims.

`python page.py` makes a capture of 5,000 requests with 500 findings, writes its page and opens it
in headless Chromium (Debian's packages chromium and chromium-driver; selenium) several times.
`python page.py --large` makes one of 500,000 requests: the page has to say what it omitted, and
memory must not grow with the capture.
"""

from __future__ import annotations

import argparse
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median
from typing import Any

from askless.capture.writing import CaptureWriter
from askless.core.records.model import CallSite
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded

FINDINGS, REQUESTS, LARGE = 500, 5_000, 500_000
TURNS = 5
AIM_OPEN_MS, AIM_BYTES = 1_000, 10_000_000
LIST = "SELECT id, vessel_id, berth_id, eta, etd, status, draught_m FROM port_call WHERE berth_id = $1 ORDER BY eta LIMIT 6"
LOOK_UP = (
    "SELECT id, name, call_sign, flag, length_m, gross_tonnage, owner FROM vessel WHERE id = $1"
)


def write(path: Path, requests: int, routes: int) -> None:
    """A capture whose every route lists calls and looks each one's vessel up."""
    writer = CaptureWriter(path, "benchmark", "postgresql")
    places = [
        CallSite(f"/app/pages_{turn % 40}.py", 10 + turn, f"page_{turn}") for turn in range(routes)
    ]
    sample = tuple((700 + i, 9000 + 3 * i, 40 + i) for i in range(6))
    for number in range(requests):
        turn, start_ns = number % routes, number * 20_000_000
        rows = [
            QuerySeen(
                LIST, start_ns + 1_000_000, 2_000_000 + number % 7 * 10_000, 6, 240, 1, places[turn], parameters=(turn,),
                columns=("id", "vessel_id", "berth_id"), sampled=(0, 1, 2), sample=sample,
            )
        ]  # fmt: skip
        rows += [
            QuerySeen(
                LOOK_UP, start_ns + 4_000_000 + 1_000_000 * i, 400_000, 1, 80, 10 + i, places[turn], parameters=(9000 + 3 * i,)
            )
            for i in range(6)
        ]  # fmt: skip
        writer.request_began(RequestBegan(number + 1, f"GET /quays/{turn}/calls", start_ns))
        writer.queries(number + 1, rows)
        writer.request_ended(RequestEnded(number + 1, start_ns + 12_000_000))
    writer.close()


def reported(capture: Path, page: Path) -> tuple[float, float]:
    """Write the page: seconds, and the most memory in MiB."""
    began_s = time.perf_counter()
    subprocess.run(
        [sys.executable, "-m", "askless", "report", capture, "-o", page],
        check=True,
        stderr=subprocess.DEVNULL,
    )
    usage = resource.getrusage(resource.RUSAGE_CHILDREN)
    return time.perf_counter() - began_s, usage.ru_maxrss / 1024


def opened(page: Path) -> list[dict[str, Any]]:
    """What the browser says of opening the page: milliseconds until it was parsed, first painted,
    and loaded.
    """
    from selenium import webdriver

    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for flag in (
        "headless=new",
        "no-sandbox",
        "disable-gpu",
        "disable-background-networking",
        "disable-component-update",
    ):
        options.add_argument("--" + flag)
    driver = webdriver.Chrome(
        options=options, service=webdriver.ChromeService("/usr/bin/chromedriver")
    )
    results = []
    for _ in range(TURNS):
        driver.get("about:blank")
        driver.get(page.as_uri())
        results.append(
            driver.execute_script(
                "const n = performance.getEntriesByType('navigation')[0];"
                "const p = performance.getEntriesByName('first-contentful-paint')[0];"
                "return {parsed: n.domContentLoadedEventEnd, painted: p ? p.startTime : 0, loaded: n.loadEventEnd};"
            )
        )
    driver.quit()
    return results


def main() -> None:
    """Measure, and say what was aimed at."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--large", action="store_true", help=f"{LARGE:,} requests")
    requests = LARGE if parser.parse_args().large else REQUESTS
    with tempfile.TemporaryDirectory() as folder:
        capture, page = Path(folder) / "calls.jsonl", Path(folder) / "calls.html"
        write(capture, requests, FINDINGS)
        seconds, mib = reported(capture, page)
        size = page.stat().st_size
        print(
            f"{requests:,} requests, {capture.stat().st_size / 2**20:,.0f} MiB: written in {seconds:.1f} s, {mib:.0f} MiB of memory"
        )
        print(f"the page: {size / 1e6:.2f} MB (aim: less than {AIM_BYTES / 1e6:.0f} MB)")
        turns = opened(page)
        for name in ("parsed", "painted", "loaded"):
            print(
                f"{name}: {median(turn[name] for turn in turns):.0f} ms, median of {TURNS} (aim: {AIM_OPEN_MS} ms)"
            )


if __name__ == "__main__":
    main()
