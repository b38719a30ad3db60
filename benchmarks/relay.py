"""What the relay costs: pgbench's SELECTs by key and a large result, direct, through a plain byte
pipe, and recorded.

    python benchmarks/relay.py [--seconds 4] [--rounds 3] [--clients 1 8 16]

A PostgreSQL of its own (Debian's package), pgbench and socat, all on this machine. The ways are
taken in turns; printed are medians of transactions a second, and the relay's as a ratio of the byte
pipe's, for each protocol (simple, extended, prepared) and number of clients. Then the time of a
result of 100 MB, and the relay's memory with 1,000 connections open. What was recorded is counted:
every transaction must be in the capture.
"""

from __future__ import annotations

import argparse
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack, closing, contextmanager
from pathlib import Path
from statistics import median

import psycopg

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))
from tests import servers  # noqa: E402

AIMS = {1: 0.95, 8: 0.9, 16: 0.9}
LARGE = "SELECT repeat('harbour ', 128) FROM generate_series(1, 100000)"
LARGE_BYTES = 100_000 * 1024
CONNECTIONS = 1000


def found(program: str) -> str:
    """The path of a program. Exits where it is not there."""
    path = shutil.which(program) or next(
        iter(map(str, Path("/usr/lib/postgresql").glob(f"*/bin/{program}"))), None
    )
    if path is None:
        raise SystemExit(f"{program} is not here: apt-get install postgresql-contrib socat")
    return path


@contextmanager
def piped(port: int) -> Iterator[int]:
    """A plain byte pipe to a port."""
    mine = servers.free_port()
    words = [
        found("socat"),
        f"TCP-LISTEN:{mine},fork,reuseaddr,nodelay,backlog=64",
        f"TCP:127.0.0.1:{port},nodelay",
    ]
    process = subprocess.Popen(words)
    try:
        _until_it_listens(mine)
        yield mine
    finally:
        process.terminate()
        process.wait()


@contextmanager
def relayed(port: int, folder: Path) -> Iterator[tuple[int, subprocess.Popen[bytes]]]:
    """The relay to a port, recording into a folder."""
    mine = servers.free_port()
    words = [
        sys.executable,
        "-m",
        "askless",
        "capture",
        "relay",
        "-o",
        str(folder),
        "--listen",
        f"127.0.0.1:{mine}",
    ]
    log = folder.with_suffix(".log").open("wb")
    process = subprocess.Popen(
        [*words, "--to", f"postgresql://127.0.0.1:{port}"], stdout=log, stderr=log
    )
    try:
        _until_it_listens(mine)
        yield mine, process
    finally:
        process.send_signal(signal.SIGINT)
        process.wait()


def _until_it_listens(port: int) -> None:
    deadline = time.monotonic() + 20
    while time.monotonic() < deadline:
        try:
            with closing(
                psycopg.connect(
                    f"host=127.0.0.1 port={port} user=harbour dbname=postgres", connect_timeout=2
                )
            ):
                return
        except psycopg.OperationalError:
            time.sleep(0.05)
    raise SystemExit(f"nothing listens on {port}")


def transactions(port: int, mode: str, clients: int, seconds: float) -> tuple[float, int]:
    """(transactions a second, transactions) of pgbench's SELECT by key."""
    words = [
        found("pgbench"),
        "-S",
        "-n",
        "-M",
        mode,
        "-c",
        str(clients),
        "-T",
        str(int(seconds)),
        "-h",
        "127.0.0.1",
    ]
    words += ["-p", str(port), "-U", "harbour", "postgres"]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    told = re.search(r"tps = ([\d.]+)", done.stdout)
    count = re.search(r"transactions actually processed: (\d+)", done.stdout)
    if told is None or count is None:
        raise SystemExit(done.stdout + done.stderr)
    return float(told.group(1)), int(count.group(1))


def large(port: int) -> float:
    """Seconds that a result of 100 MB takes."""
    words = [
        found("psql"),
        "-h",
        "127.0.0.1",
        "-p",
        str(port),
        "-U",
        "harbour",
        "-d",
        "postgres",
        "-At",
        "-c",
        LARGE,
    ]
    start = time.perf_counter()
    with open(os.devnull, "wb") as nothing:
        subprocess.run(words, stdout=nothing, check=True)
    return time.perf_counter() - start


def resident_mib(process: int) -> float:
    """Memory of a process, in MiB."""
    status = Path(f"/proc/{process}/status").read_text()
    told = re.search(r"VmRSS:\s+(\d+)", status)
    return int(told.group(1)) / 1024 if told else 0.0


def main(seconds: float, rounds: int, clients: list[int], modes: list[str]) -> None:
    """Measure and print."""
    with ExitStack() as stack:
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        server = stack.enter_context(
            servers.postgresql(logging=False, connections=CONNECTIONS + 50)
        )
        fill = [
            found("pgbench"),
            "-i",
            "-q",
            "-s",
            "5",
            "-h",
            "127.0.0.1",
            "-p",
            str(server.port),
            "-U",
            "harbour",
            "postgres",
        ]
        subprocess.run(fill, check=True, capture_output=True)
        pipe = stack.enter_context(piped(server.port))
        asked = 0
        print(
            f"{'protocol':>10}{'clients':>9}{'direct':>10}{'pipe':>10}{'relay':>10}{'relay/pipe':>12}  aim"
        )
        with relayed(server.port, folder / "calls") as (relay, _):
            ways = {"direct": server.port, "pipe": pipe, "relay": relay}
            for mode in modes:
                for count in clients:
                    speeds: dict[str, list[float]] = {way: [] for way in ways}
                    for _ in range(rounds):
                        for way, port in ways.items():
                            speed, done = transactions(port, mode, count, seconds)
                            speeds[way].append(speed)
                            asked += done if way == "relay" else 0
                    middle = {way: median(found_) for way, found_ in speeds.items()}
                    print(
                        f"{mode:>10}{count:>9}{middle['direct']:>10.0f}{middle['pipe']:>10.0f}{middle['relay']:>10.0f}"
                        f"{middle['relay'] / middle['pipe']:>12.2f}  {AIMS.get(count, '')}",
                        flush=True,
                    )
            taken = {way: median(large(port) for _ in range(rounds)) for way, port in ways.items()}
            print(
                f"100 MB of result: direct {taken['direct']:.2f} s, pipe {taken['pipe']:.2f} s, relay {taken['relay']:.2f} s: "
                f"{taken['relay'] / taken['pipe']:.2f} of the pipe's (aim 1.5)"
            )
        print(
            "what the relay said:", (folder / "calls.log").read_text().strip().replace("\n", "\n  ")
        )
        kept = counted(folder / "calls")
        print(f"SELECTs by key that were relayed {asked}, that are in the capture {kept}")
        memory(server.port, folder)


def counted(capture: Path) -> int:
    """SELECTs of pgbench in a capture."""
    from askless.capture.reading import read

    return sum(
        "pgbench_accounts" in request.statement(i).text
        for request in read(capture)
        for i in range(len(request))
    )


def memory(port: int, folder: Path) -> None:
    """The relay's memory with ten connections and with a thousand, each of which has asked
    something large.
    """
    with relayed(port, folder / "many") as (relay, process), ExitStack() as stack:
        for count in range(1, CONNECTIONS + 1):
            opened = psycopg.connect(
                f"host=127.0.0.1 port={relay} user=harbour dbname=postgres", autocommit=True
            )
            stack.enter_context(closing(opened))
            opened.execute("SELECT repeat('harbour ', 1024) FROM generate_series(1, 20)").fetchall()
            if count in (10, 100, CONNECTIONS):
                print(
                    f"{count} connections: {resident_mib(process.pid):.0f} MiB in the relay",
                    flush=True,
                )


if __name__ == "__main__":
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--seconds", type=float, default=4)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--clients", type=int, nargs="+", default=[1, 8, 16])
    parser.add_argument("--modes", nargs="+", default=["simple", "extended", "prepared"])
    given = parser.parse_args()
    main(given.seconds, given.rounds, given.clients, given.modes)
