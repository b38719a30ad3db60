"""Throw-away database servers on loopback, from Debian's packages, each in a folder of its own and
with its own log.
"""

from __future__ import annotations

import itertools
import os
import re
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import Any

_marks = itertools.count()
_OUR_OWN = re.compile(r"SELECT 'mark |SET AUTOCOMMIT = 1|SET NAMES")


class Server:
    """A running server: if it listens, and what it logged."""

    def __init__(self, system: str, port: int, log: Path) -> None:
        self.system = system
        self.port = port
        self.log = log

    def connect(self, database: str) -> Any:
        """A connection of the server's driver, which commits by itself."""
        # Imported here: tests of the core need no driver.
        import psycopg
        import pymysql

        place: dict[str, Any] = {
            "host": "127.0.0.1",
            "port": self.port,
            "user": "harbour",
            "autocommit": True,
        }
        if self.system == "postgresql":
            return psycopg.connect(dbname=database, **place)
        return pymysql.connect(database=database, password="tide", **place)

    def mark(self) -> int:
        """Where the log ends now, whatever was sent before being in it."""
        word = f"mark {next(_marks)}"
        with closing(
            self.connect("postgres" if self.system == "postgresql" else "harbour")
        ) as connection:
            connection.cursor().execute(f"SELECT '{word}'")
        deadline = time.monotonic() + 60
        while word.encode() not in self.log.read_bytes():
            assert time.monotonic() < deadline, "the server does not log"
        return self.log.stat().st_size

    def statements(self, since: int) -> list[str]:
        """The statements that the server logged since a mark, as it words them, with what is before
        them.
        """
        text = self.log.read_bytes()[since : self.mark()].decode("utf-8", "replace")
        if self.system == "postgresql":
            found = re.findall(
                r"^LOG:  (statement: |execute [^:]+: )([^\n]*(?:\n\t[^\n]*)*)", text, re.MULTILINE
            )
            worded = [kind + " ".join(statement.split()) for kind, statement in found]
            return [statement for statement in worded if "SELECT 'mark " not in statement]
        found = re.findall(
            r"^[^\n]*?\t\s*\d+ (Query|Prepare|Execute)\t([^\n]*)", text, re.MULTILINE
        )
        return [
            statement
            for kind, statement in found
            if kind != "Prepare" and not _OUR_OWN.match(statement)
        ]


def free_port() -> int:
    with closing(socket.socket()) as taken:
        taken.bind(("127.0.0.1", 0))
        return int(taken.getsockname()[1])


def _owner(name: str) -> dict[str, str]:
    """Both servers refuse to run as root: they get their own user."""
    return {"user": name, "group": name} if os.geteuid() == 0 else {}


@contextmanager
def _folder(owner: str) -> Iterator[Path]:
    folder = Path(tempfile.mkdtemp(prefix="askless-server-"))
    try:
        if os.geteuid() == 0:
            shutil.chown(folder, owner)
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _tool(*names: str) -> str:
    for name in names:
        found = shutil.which(name) or next(
            iter(sorted(map(str, Path("/usr/lib/postgresql").glob(f"*/bin/{name}")))), None
        )
        if found:
            return found
    raise RuntimeError(f"none of {', '.join(names)} is installed: tests/run installs them")


def _wait(process: subprocess.Popen[bytes], port: int, log: Path) -> None:
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        if process.poll() is not None:
            break
        with closing(socket.socket()) as probe, suppress(subprocess.TimeoutExpired):
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                return
            process.wait(0.05)
    raise RuntimeError("the server did not start:\n" + log.read_text(errors="replace")[-2000:])


def _answering(server: Server, database: str) -> Server:
    """The server, once it answers: it listens a little before it does."""
    import psycopg
    import pymysql

    deadline = time.monotonic() + 60
    while True:
        try:
            server.connect(database).close()
            return server
        except (psycopg.OperationalError, pymysql.err.OperationalError):
            if time.monotonic() > deadline:
                raise


@contextmanager
def postgresql(
    logging: bool = True, connections: int = 100, more: Mapping[str, object] | None = None
) -> Iterator[Server]:
    """A PostgreSQL whose user `harbour` needs no password; it logs every statement, unless asked
    not to.

    `more` are settings; one of `logging_collector` lets it write its logs into `data/log` next to
    its own.
    """
    with _folder("postgres") as folder:
        owner, data = _owner("postgres"), folder / "data"
        made = [
            _tool("initdb"),
            "-D",
            data,
            "-U",
            "harbour",
            "-A",
            "trust",
            "--no-sync",
            "-E",
            "UTF8",
            "--locale=C",
        ]
        subprocess.run(made, check=True, capture_output=True, cwd=folder, **owner)  # type: ignore[call-overload]
        port, log = free_port(), folder / "log"
        settings = {
            "port": port, "listen_addresses": "127.0.0.1", "unix_socket_directories": str(folder), "fsync": "off",
            "log_statement": "all" if logging else "none", "max_connections": connections, "log_line_prefix": "", "log_min_duration_statement": -1, **(more or {}),
        }  # fmt: skip
        words = [
            _tool("postgres"),
            "-D",
            data,
            *(f"--{key}={value}" for key, value in settings.items()),
        ]
        with log.open("wb") as stream:
            process = subprocess.Popen(words, stdout=stream, stderr=stream, cwd=folder, **owner)  # type: ignore[call-overload]
        try:
            _wait(process, port, log)
            yield _answering(Server("postgresql", port, log), "postgres")
        finally:
            process.send_signal(signal.SIGINT)  # does not wait for clients
            process.wait(30)


@contextmanager
def mariadb() -> Iterator[Server]:
    """A MariaDB with a database and a user `harbour`, password `tide`; it logs every statement."""
    with _folder("mysql") as folder:
        owner, data, log = _owner("mysql"), folder / "data", folder / "general.log"
        install = [
            _tool("mariadb-install-db", "mysql_install_db"),
            "--no-defaults",
            f"--datadir={data}",
        ]
        install += ["--auth-root-authentication-method=normal", "--skip-test-db"]
        subprocess.run(install, check=True, capture_output=True, cwd=folder, **owner)  # type: ignore[call-overload]
        setup = folder / "setup.sql"
        setup.write_text(
            "CREATE DATABASE harbour;\nCREATE DATABASE drivers;\nCREATE USER 'harbour'@'127.0.0.1' IDENTIFIED BY 'tide';\n"
            "CREATE USER 'harbour'@'localhost' IDENTIFIED BY 'tide';\n"
            "GRANT ALL ON *.* TO 'harbour'@'127.0.0.1' WITH GRANT OPTION;\nGRANT ALL ON *.* TO 'harbour'@'localhost' WITH GRANT OPTION;\n"
        )
        setup.chmod(0o644)
        port = free_port()
        words = [
            _tool("mariadbd", "mysqld"), "--no-defaults", f"--datadir={data}", f"--port={port}",
            "--bind-address=127.0.0.1", f"--socket={folder / 'sock'}", f"--pid-file={folder / 'pid'}",
            "--general-log=1", f"--general-log-file={log}", f"--init-file={setup}",
            "--innodb-flush-log-at-trx-commit=0", "--skip-log-bin",
        ]  # fmt: skip
        with (folder / "err").open("wb") as stream:
            process = subprocess.Popen(words, stdout=stream, stderr=stream, cwd=folder, **owner)  # type: ignore[call-overload]
        try:
            _wait(process, port, folder / "err")
            yield _answering(Server("mariadb", port, log), "harbour")
        finally:
            process.terminate()
            process.wait(30)
