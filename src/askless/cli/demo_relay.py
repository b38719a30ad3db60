"""`askless demo --relay`: two pages of the office in JavaScript, recorded on the wire, as they grew
and as tuned.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import askless.demo
from askless import sources
from askless.cli import capture
from askless.cli.demo_console import free_port, shown, step, title
from askless.core.errors import AskLessError
from askless.output import notices

PAGES = ("/calls/due", "/berths")
_OFFICE = {"vessel", "port_call", "berth", "tug_job", "tug", "pilot"}
_FILL = "import sys, data, sqlalchemy; data.fill(sqlalchemy.create_engine(sys.argv[1]), scale=2)"


def run(url: str, out: Path, times: int) -> None:
    """Fill the database where it is empty, record both versions, and compare them. Raises
    AskLessError.
    """
    if shutil.which("node") is None:
        raise AskLessError(
            "demo-node-missing",
            "the demo's pages are in JavaScript",
            "install Node.js: apt-get install nodejs",
        )
    if not url.startswith(("postgresql://", "postgres://")):
        raise AskLessError(
            "bad-server",
            f"--relay takes a URL of PostgreSQL, not {url!r}",
            "write it like postgresql://harbour@127.0.0.1/empty",
        )
    source = Path(askless.demo.__file__).parent
    out.mkdir(parents=True, exist_ok=True)
    for name in ("harbour", "harbour_node"):
        shutil.copytree(
            source / name,
            out / name,
            dirs_exist_ok=True,
            ignore=shutil.ignore_patterns("__pycache__"),
        )
    _fill(url, out)
    for kind in ("grown", "tuned"):
        _record(url, out, kind, times)
        if kind == "grown":
            step("queries per route", ["requests", str(out / "relay-grown")])
            step("findings and advice", ["findings", str(out / "relay-grown")])
            step("one finding in full", ["findings", str(out / "relay-grown"), "--show", "1"])
    step(
        "the tuned pages compared with the original ones",
        ["compare", str(out / "relay-grown"), str(out / "relay-tuned")],
    )


def _fill(url: str, out: Path) -> None:
    """The office's tables; a database with tables of someone else's is left alone."""
    import sqlalchemy

    from askless.database.connecting import connect, parse_url

    address = parse_url(url)
    with connect(address) as connection:
        names = set(sqlalchemy.inspect(connection).get_table_names())
    if names and not names >= _OFFICE:
        raise AskLessError(
            "demo-database-used",
            f"the database has tables already: {', '.join(sorted(names)[:3])}",
            "name an empty one in --relay",
        )
    if not names:
        notices.progress("building the harbour office's database")
        whole = address.set(drivername="postgresql+psycopg").render_as_string(hide_password=False)
        done = subprocess.run(
            [sys.executable, "-c", _FILL, whole],
            cwd=out / "harbour",
            capture_output=True,
            text=True,
            check=False,
        )
        notices.progress_done()
        if done.returncode:
            raise AskLessError(
                "demo-build-failed",
                "the demo's database could not be built: " + done.stderr.strip()[-300:],
                "check --relay",
            )


def _record(url: str, out: Path, kind: str, times: int) -> None:
    from askless.database.connecting import parse_url

    port, folder = free_port(), out / f"relay-{kind}"
    if folder.exists():
        shutil.rmtree(folder)
    address = parse_url(url)
    to = f"postgresql://{address.host}:{address.port or 5432}"
    visits = [f"http://127.0.0.1:{port}{page}" for page in PAGES]
    program = ["node", str(out / "harbour_node" / "office.js"), str(port), kind]
    title(f"record the pages {'as they grew' if kind == 'grown' else 'as tuned'}, on the wire")
    shown(
        [
            "capture",
            "relay",
            "-o",
            str(folder),
            "--to",
            to,
            "--visit",
            visits[0],
            "...",
            "--",
            *program,
        ]
    )
    sys.stdout.flush()
    source = sources.load("relay")
    values: dict[str, Any] = {option.name: option.default for option in source.options}
    values |= {"to": to, "visit": visits, "repeat": times, "program": program}
    os.environ["DATABASE_URL"] = url
    capture.record(source, values, folder)
