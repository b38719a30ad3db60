"""A Dask cluster of three workers on loopback, one of which is killed while it works; captures in
other places than files.
"""

from __future__ import annotations

import http.server
import random
import subprocess
import sys
import threading
from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import Any

import pytest

from askless import executors
from askless.capture import partitions
from askless.executors import cluster
from tests.conftest import refused, run
from tests.large.test_pieces import document, written

dask = pytest.importorskip("distributed")
_DASK = [sys.executable, "-m", "dask"]


@pytest.fixture
def served(tmp_path: Path) -> Iterator[tuple[str, list[subprocess.Popen[bytes]]]]:
    """A scheduler's address, and its three workers."""
    file = tmp_path / "scheduler.json"
    quiet: dict[str, Any] = {
        "stdout": subprocess.DEVNULL,
        "stderr": subprocess.DEVNULL,
        "cwd": tmp_path,
    }
    started = [
        subprocess.Popen(
            [
                *_DASK,
                "scheduler",
                "--host",
                "127.0.0.1",
                "--port",
                "0",
                "--no-dashboard",
                "--scheduler-file",
                file,
            ],
            **quiet,
        )
    ]
    started += [
        subprocess.Popen(
            [*_DASK, "worker", "--scheduler-file", file, "--host", "127.0.0.1", "--nworkers", "1", "--nthreads", "1", "--no-dashboard", "--no-nanny"],
            **quiet,
        )
        for _ in range(3)
    ]  # fmt: skip
    try:
        with dask.Client(scheduler_file=str(file), timeout=120) as client:
            client.wait_for_workers(3, timeout=120)
            address = client.scheduler.address
        yield address, started[1:]
    finally:
        for process in started:
            process.kill()
            process.wait()


@pytest.fixture
def capture(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    folder = tmp_path / "calls"
    folder.mkdir()
    for number in range(4):
        written(folder / f"{number}.askless.jsonl", random.Random(number), 400)
    monkeypatch.setattr(partitions, "PIECE_BYTES", 20_000)
    return folder


def test_a_worker_that_is_killed_costs_time_and_not_the_answer(
    served: tuple[str, list[subprocess.Popen[bytes]]],
    capture: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    address, workers = served
    alone = document(capture, executors.ExecutorOptions(1))
    assert document(capture, executors.ExecutorOptions(0, address)) == alone
    taken = []
    plain = cluster.Cluster._result

    def killing(self: cluster.Cluster, future: Any) -> Any:
        result = plain(self, future)
        taken.append(1)
        if len(taken) == 2:
            workers[0].kill()
            workers[0].wait()
        return result

    monkeypatch.setattr(cluster.Cluster, "_result", killing)
    assert document(capture, executors.ExecutorOptions(0, address)) == alone and len(taken) > 10


def test_a_cluster_that_is_not_there(capture: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(cluster, "_AWAY_S", 1)
    refused(
        run("requests", capture, "--cluster", "tcp://127.0.0.1:9"),
        "there is no Dask scheduler at tcp://127.0.0.1:9",
    )
    refused(
        run("requests", capture, "--cluster", "nonsense"), "there is no Dask scheduler at nonsense"
    )


def test_a_worker_with_another_ask_less(
    served: tuple[str, Any], capture: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(cluster, "__version__", "9.9")
    refused(
        run("requests", capture, "--cluster", served[0]),
        "this machine has 9.9",
        "install the same version on both",
    )


def test_a_cluster_of_this_machine(capture: Path) -> None:
    assert document(capture, executors.ExecutorOptions(2, cluster.LOCAL)) == document(
        capture, executors.ExecutorOptions(1)
    )


def test_captures_in_a_store(capture: Path) -> None:
    """Over any protocol of fsspec: one that can be read from the middle, and one that can not."""
    import fsspec

    here = run("requests", capture, "--json").json
    memory = fsspec.filesystem("memory")
    memory.put(str(capture), "/office", recursive=True)
    stored = run("requests", "memory://office", "--json", "--workers", "1").json
    assert {**here, "capture": ""} == {**stored, "capture": ""}
    handler = partial(_Quiet, directory=str(capture.parent))
    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        url = f"http://127.0.0.1:{server.server_port}/calls/"
        partitions.PIECE_BYTES = 10**6  # undone with the fixture
        fetched = run("requests", url, "--json", "--workers", "1")
        assert fetched.code == 0, fetched.err
        assert {route["route"]: route["requests"] for route in fetched.json["routes"]} == {
            route["route"]: route["requests"] for route in here["routes"]
        }
        refused(
            run("requests", f"http://127.0.0.1:{server.server_port}/secret/0.askless.jsonl"),
            "/secret/0.askless.jsonl",
        )
        server.shutdown()
    refused(run("requests", "memory://nothing"), "there is no capture at memory://nothing")
    refused(run("requests", "nope://nothing"), "nope://nothing can't be read")


class _Quiet(http.server.SimpleHTTPRequestHandler):
    def do_GET(self) -> None:
        if self.path.startswith("/secret"):
            self.send_error(403)
        else:
            super().do_GET()

    def do_HEAD(self) -> None:
        if self.path.startswith("/secret"):
            self.send_response(200)
            self.end_headers()
        else:
            super().do_HEAD()

    def log_message(self, *_: Any) -> None:
        return
