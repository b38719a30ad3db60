"""`askless serve` on loopback: for anyone who has its address alone, while a capture grows, until
Ctrl-C.
"""

from __future__ import annotations

import http.client
import re
import signal
import socket
import subprocess
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.conftest import ASKLESS, findings, refused, run
from tests.output.conftest import Browser


@contextmanager
def serving(*words: object) -> Iterator[tuple[subprocess.Popen[str], str]]:
    """The program, and the address that it printed."""
    process = subprocess.Popen(
        [*ASKLESS, "serve", *map(str, words)],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    try:
        assert process.stdout is not None
        yield process, process.stdout.readline().strip()
    finally:
        process.kill()
        process.communicate()


def asked(
    address: str, path: str | None = None, host: str | None = None, method: str = "GET"
) -> tuple[int, str, dict[str, str]]:
    found = re.fullmatch(r"http://127\.0\.0\.1:(\d+)(/[\w-]+/)", address)
    assert found, address
    connection = http.client.HTTPConnection("127.0.0.1", int(found[1]), timeout=30)
    connection.request(
        method, found[2] if path is None else path, headers={"Host": host} if host else {}
    )
    answer = connection.getresponse()
    return (
        answer.status,
        answer.read().decode(),
        {name.lower(): value for name, value in answer.getheaders()},
    )


def test_who_lacks_the_token_or_comes_from_elsewhere_is_refused(calls: Callable[..., Path]) -> None:
    with serving(calls()) as (process, address):
        status, page, headers = asked(address)
        assert status == 200 and "GET /calls/2" in page and headers["cache-control"] == "no-store"
        assert (
            headers["x-frame-options"] == "DENY"
            and headers["content-type"] == "text/html; charset=utf-8"
        )
        port = address.split(":")[2].split("/")[0]
        for path in ("/", "/wrong/", "/wrong/events", "//", f"/{address.split('/')[3]}x/"):
            status, text, _ = asked(address, path)
            assert status == 403 and "lacks its token" in text and "GET /calls" not in text, path
        for host in ("harbour.example", f"harbour.example:{port}", "127.0.0.1:1", "localhost"):
            status, text, _ = asked(address, host=host)
            assert (
                status == 403
                and "only available under its own address" in text
                and "GET /calls" not in text
            ), host
        assert asked(address, host=f"localhost:{port}")[0] == 200
        assert asked(address, method="POST")[0] == 501 and asked(address, method="HEAD")[:2] == (
            200,
            "",
        )
        assert asked(address, f"/{address.split('/')[3]}/other")[0] == 404
        with pytest.raises(OSError):
            socket.create_connection(("127.0.0.2", int(port)), timeout=5)
        process.send_signal(signal.SIGINT)
        out, err = process.communicate(timeout=60)
        assert (
            process.returncode == 0
            and "Traceback" not in err
            and "press Ctrl-C to stop" in err
            and out == ""
        )


def test_two_servers_have_two_tokens(calls: Callable[..., Path]) -> None:
    capture = calls()
    with serving(capture) as (_, one), serving(capture) as (_, other):
        assert one.split("/")[3] != other.split("/")[3] and len(one.split("/")[3]) >= 20


def test_the_page_grows_with_the_capture(
    browser: Browser, calls: Callable[..., Path], tmp_path: Path
) -> None:
    lines = calls(4).read_text().splitlines(keepends=True)
    growing = tmp_path / "growing"
    growing.mkdir()
    file = growing / "one.jsonl"
    file.write_text("".join(lines[: len(lines) // 2]) + lines[len(lines) // 2][:20])
    with serving(growing) as (process, address):
        browser.open(address)
        before = len(browser.all("details.story"))
        browser.one("#search").send_keys("calls")
        browser.js("document.querySelector('details.story').open = false")
        assert 0 < before < 4 and browser.complaints() == []
        with file.open("a") as stream:
            stream.write(lines[len(lines) // 2][20:] + "".join(lines[len(lines) // 2 + 1 :]))
        browser.until(lambda: len(browser.all("details.story")) == 4)
        assert (
            browser.one("#search").get_attribute("value") == "calls"
            and "grown at" in browser.one("#grown").text
        )
        second = growing / "two.jsonl"
        second.write_text("".join(lines).replace("/calls/", "/pilots/"))
        browser.until(lambda: len(browser.all("details.story")) == 8)
        assert {story.get_attribute("id") for story in browser.all("details.story")} == {
            f["key"] for f in findings(growing)
        }
        assert [line for line in browser.complaints() if "ERR_" not in line] == []
        process.send_signal(signal.SIGINT)
        assert process.wait(60) == 0


def test_compressed_files_and_plans(pages: dict[str, Path], harbour: Path, tmp_path: Path) -> None:
    import gzip

    folder = tmp_path / "packed"
    folder.mkdir()
    (folder / "a.jsonl.gz").write_bytes(
        gzip.compress(next(pages["grown"].glob("*.jsonl")).read_bytes())
    )
    with serving(folder, "--db", f"sqlite:///{harbour}", "--compare", pages["tuned"]) as (
        _,
        address,
    ):
        _, page, _ = asked(address)
        assert all(f'id="{part}"' in page for part in ("plans", "indexes", "compared", "change"))


def test_what_serve_gets_of_bad_input(calls: Callable[..., Path], tmp_path: Path) -> None:
    capture = calls()
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        refused(run("serve", capture, "--port", taken.getsockname()[1]), "is in use", "another one")
    refused(run("serve", capture, "--port", 70_000), "no port 70000")
    refused(run("serve", tmp_path / "nowhere"), "no capture at")
    (tmp_path / "foreign.jsonl").write_text("[1]\n")
    refused(run("serve", tmp_path / "foreign.jsonl"), "is not an Ask Less capture")
