"""The harbour office in other languages, through the relay: what is recorded, and what is found in
it.

    python benchmarks/languages.py [--only ruby php node java] [--on postgresql mariadb]

Programs in `benchmarks/languages`, each with an ORM of its language, ask a PostgreSQL and a MariaDB
of this bench's own for three pages: one row by row, the same eagerly loaded, one that counts. Each
is compared with the server's own log, statement by statement, and with the findings that there
should be: four row-by-row loads, all with their keys traced, and none on the page that loads
eagerly. Exit code 1 where something differs.

Needs Debian's ruby-activerecord ruby-pg ruby-mysql2 php-cli php-pgsql php-mysql
php-illuminate-database, a JDK with libeclipselink-java libpostgresql-jdbc-java libmariadb-java, and
Node with `npm install sequelize pg mysql2` (NODE_PATH). What is not there is omitted, and said.
"""

from __future__ import annotations

import argparse
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from contextlib import ExitStack, closing
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))
from askless.capture.reading import read  # noqa: E402
from askless.core.sql.shape import shape_text  # noqa: E402
from askless.sources.wire.splitting import split  # noqa: E402
from tests import servers  # noqa: E402
from tests.possible import impossible  # noqa: E402

HERE = ROOT / "benchmarks" / "languages"
HARBOUR = ROOT / "src" / "askless" / "demo" / "harbour"
JARS = (
    "eclipselink",
    "eclipselink-jpa-2.1-spec",
    "org.eclipse.persistence.jpa.jpql",
    "postgresql",
    "mariadb-java-client",
)
EXPECTED = {
    ("row by row", "vessel"),
    ("row by row", "tug_job"),
    ("row by row", "tug"),
    ("counted", "port_call"),
}
# What drivers send to set up a connection: each logs some of it in another form than it was sent.
SETTING_UP = re.compile(
    r"(?i)^\s*(?:set\b|select @@|show\b|begin|commit|rollback|start transaction|use\b|deallocate|discard|close\b)"
)


def command_of(language: str, folder: Path) -> list[str] | None:
    """How a program of a language is run; None where something is not installed."""
    if language == "ruby":
        there = (
            shutil.which("ruby")
            and not subprocess.run(
                ["ruby", "-e", "require 'active_record'"], capture_output=True, check=False
            ).returncode
        )
        return ["ruby", str(HERE / "office.rb")] if there else None
    if language == "php":
        there = (
            shutil.which("php") and Path("/usr/share/php/Illuminate/Database/autoload.php").exists()
        )
        return ["php", str(HERE / "office.php")] if there else None
    if language == "node":
        there = (
            shutil.which("node")
            and not subprocess.run(
                ["node", "-e", "require('sequelize'); require('pg'); require('mysql2')"],
                capture_output=True,
                check=False,
            ).returncode
        )
        return ["node", str(HERE / "office.js")] if there else None
    jars = [Path(f"/usr/share/java/{name}.jar") for name in JARS]
    if not shutil.which("javac") or not all(jar.exists() for jar in jars):
        return None
    path = ":".join([*map(str, jars), str(folder)])
    (folder / "META-INF").mkdir(exist_ok=True)
    shutil.copy(HERE / "persistence.xml", folder / "META-INF")
    subprocess.run(
        ["javac", "-nowarn", "-cp", path, "-d", str(folder), str(HERE / "Office.java")],
        check=True,
        capture_output=True,
    )
    return ["java", "-cp", path, "Office"]


def office(server: servers.Server) -> None:
    """Fill the office's database on a server."""
    with closing(
        server.connect("postgres" if server.system == "postgresql" else "harbour")
    ) as first:
        first.cursor().execute("CREATE DATABASE office")
    driver = (
        "postgresql+psycopg://harbour"
        if server.system == "postgresql"
        else "mysql+pymysql://harbour:tide"
    )
    fill = "import sys, data, sqlalchemy; data.fill(sqlalchemy.create_engine(sys.argv[1]), scale=1)"
    subprocess.run(
        [sys.executable, "-c", fill, f"{driver}@127.0.0.1:{server.port}/office"],
        cwd=HARBOUR,
        check=True,
    )


def shapes(statements: list[str], system: str) -> Counter[str]:
    """Statements by shape, what sets a connection up omitted; MariaDB's log is read line by line."""
    statements = [
        text.lstrip().split("\n")[0] if system == "mariadb" else text for text in statements
    ]
    pieces = [
        piece
        for statement in statements
        for piece in split(statement, system)
        if not SETTING_UP.match(piece)
    ]
    return Counter(shape_text(piece, system) for piece in pieces)


def run(language: str, command: list[str], server: servers.Server, folder: Path) -> list[str]:
    """Run one program; what is not as it should be."""
    marks, capture = folder / "marks.jsonl", folder / f"{language}-{server.system}"
    since = server.mark()
    words = [
        sys.executable,
        "-m",
        "askless",
        "capture",
        "relay",
        "-o",
        str(capture),
        "--to",
        f"{server.system}://127.0.0.1:{server.port}",
    ]
    done = subprocess.run(
        [*words, "--marks", str(marks), "--", *command, server.system, str(marks)],
        capture_output=True,
        text=True,
        check=False,
        env=os.environ,
    )
    if done.returncode:
        return [f"it ended with {done.returncode}: {done.stderr[-500:]}"]
    logged = [
        line.partition(": ")[2] if server.system == "postgresql" else line
        for line in server.statements(since)
    ]
    recorded = [request.text(i) for request in read(capture) for i in range(len(request))]
    ours, theirs = shapes(recorded, server.system), shapes(logged, server.system)
    wrong = [f"the log has {n} x {text[:90]}" for text, n in (theirs - ours).items()]
    wrong += [f"the log has not {n} x {text[:90]}" for text, n in (ours - theirs).items()]
    printed = subprocess.run(
        [sys.executable, "-m", "askless", "findings", str(capture), "--json"],
        capture_output=True,
        check=True,
    )
    document = json.loads(printed.stdout)
    wrong += [f"impossible: {fault}" for fault in impossible(document)]
    found = document["findings"]
    loops = {
        (f["route"], f["tables"][0])
        for f in found
        if f["pattern"] == "n-plus-one" and f["evidence"] == "traced"
    }
    wrong += [f"not found: {table} on the page {page}" for page, table in sorted(EXPECTED - loops)]
    wrong += [
        f"{f['pattern']} on the page eager: {f['title']}" for f in found if f["route"] == "eager"
    ]
    print(
        f"{language:>6} on {server.system:<11} {sum(ours.values()):>5} statements, as the log has them: {'no' if ours != theirs else 'yes'}; findings {len(found)}, {len(EXPECTED & loops)} of {len(EXPECTED)} loops traced",
        flush=True,
    )
    return wrong


def main(languages: list[str], systems: list[str]) -> int:
    """Run all; the exit code."""
    bad = 0
    with ExitStack() as stack:
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        for system in systems:
            server = stack.enter_context(
                servers.postgresql() if system == "postgresql" else servers.mariadb()
            )
            office(server)
            for language in languages:
                command = command_of(language, folder)
                if command is None:
                    print(f"{language:>6}: not installed here")
                    continue
                for line in run(language, command, server, folder):
                    bad = 1
                    print(f"         {line}")
    return bad


if __name__ == "__main__":
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument(
        "--only",
        nargs="+",
        choices=("ruby", "php", "node", "java"),
        default=["ruby", "php", "node", "java"],
    )
    parser.add_argument(
        "--on", nargs="+", choices=("postgresql", "mariadb"), default=["postgresql", "mariadb"]
    )
    given = parser.parse_args()
    sys.exit(main(given.only, given.on))
