"""The relay between real clients and real servers: what it records is what the server logged, query by query."""

from __future__ import annotations

import shutil
import signal
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from askless.capture.reading import read
from askless.core.model import Request
from askless.core.sql.shape import shape_text
from askless.sources.wire.splitting import split
from tests.conftest import program
from tests.servers import Server, free_port

HERE = Path(__file__).parent
PYTHON = sys.executable


def texts(requests: list[Request]) -> list[str]:
    return [request.text(i) for request in requests for i in range(len(request))]


@contextmanager
def relayed(folder: Path, to: str, *more: str) -> Iterator[int]:
    """A relay that runs while the block does; the port that it listens on."""
    port = free_port()
    words = [
        PYTHON,
        "-m",
        "askless",
        "capture",
        "relay",
        "-o",
        str(folder),
        "--to",
        to,
        "--listen",
        f"127.0.0.1:{port}",
        *more,
    ]
    process = subprocess.Popen(words, stderr=subprocess.PIPE, text=True)
    assert process.stderr is not None
    line = process.stderr.readline()
    assert line.startswith("Relaying"), line + process.stderr.read()
    try:
        yield port
    finally:
        process.send_signal(signal.SIGINT)
        told = process.communicate(timeout=60)[1]
    assert process.returncode == 0, told


def shapes(statements: list[str], system: str) -> Counter[str]:
    """Statements by their shapes, of those that several tell apart; a log has the values where we have placeholders."""
    pieces = [piece for statement in statements for piece in split(statement, system)]
    return Counter(shape_text(piece, system) for piece in pieces)


def test_postgresqls_clients_are_recorded_as_the_server_logs_them(postgresql: Server, tmp_path: Path) -> None:
    since = postgresql.mark()
    ran = program(
        "capture", "relay", "-o", tmp_path / "calls", "--to", f"postgresql://127.0.0.1:{postgresql.port}",
        "--", PYTHON, HERE / "clients_postgresql.py",
    )  # fmt: skip
    assert ran.code == 7, ran.err
    logged = [line.partition(": ")[2] for line in postgresql.statements(since)]
    # A portal that is read in portions is one query of ours: the log tells of each portion ("execute fetch from").
    portions = [line for line in postgresql.statements(since) if line.startswith("execute fetch from")]
    recorded = list(read(tmp_path / "calls"))
    assert shapes(texts(recorded), "postgresql") == shapes(logged, "postgresql") - Counter(
        shape_text(line.partition(": ")[2], "postgresql") for line in portions
    )
    by_text = {request.text(i): (request, i) for request in recorded for i in range(len(request))}
    request, i = by_text["SELECT id FROM berth_asked WHERE id = ANY($1)"]
    assert request.parameters[i] == (("list", "[1, 2, 3]"),) and request.samples[i] == ((1,), (2,), (3,))
    assert any("22012" in error for request in recorded for error in request.errors.values())
    assert {request.kind for request in recorded} <= {"connection", "paused"} and "told apart by" in ran.err


@pytest.mark.skipif(shutil.which("pgbench") is None, reason="pgbench is not installed")
@pytest.mark.parametrize("mode", ["simple", "extended", "prepared"])
def test_pgbench(mode: str, postgresql: Server, tmp_path: Path) -> None:
    postgresql.connect("postgres").execute("DROP TABLE IF EXISTS berth_asked").connection.close()
    script = tmp_path / "ask.sql"
    script.write_text("\\set id random(1, 100)\nSELECT :id + 1;\nBEGIN;\nSELECT :id - 1;\nEND;\n")
    words = ["pgbench", "-n", "-M", mode, "-c", "4", "-t", "25", "-f", str(script), "-U", "harbour", "postgres"]
    ran = program(
        "capture", "relay", "-o", tmp_path / "calls", "--to", f"postgresql://127.0.0.1:{postgresql.port}", "--", *words
    )
    assert ran.code == 0 and "processed: 100/100" in ran.out, ran.err + ran.out
    recorded = list(read(tmp_path / "calls"))
    asked = [text for text in texts(recorded) if "+ 1" in text or "- 1" in text]
    assert len(asked) == 200
    assert all(len(request.connections) for request in recorded)


def test_mysqls_clients_are_recorded_as_the_server_logs_them(mariadb: Server, tmp_path: Path) -> None:
    since = mariadb.mark()
    ran = program(
        "capture", "relay", "-o", tmp_path / "calls", "--to", f"mariadb://127.0.0.1:{mariadb.port}",
        "--", PYTHON, HERE / "clients_mysql.py",
    )  # fmt: skip
    assert ran.code == 0, ran.err
    noise = ("SET ", "select @@version", "SET NAMES", "ROLLBACK")
    ours = [text for text in texts(list(read(tmp_path / "calls"))) if not text.startswith(noise)]
    logged = [text for text in mariadb.statements(since) if not text.startswith(noise)]
    assert shapes(ours, "mariadb") == shapes(logged, "mariadb")
    prepared = [
        request.parameters[i]
        for request in read(tmp_path / "calls")
        for i in range(len(request))
        if "name = ?" in request.text(i)
    ]
    assert prepared == [(number, "Berth 7") for number in range(4)]
