"""Three applications that no one here wrote, bare and recorded: the same pages, and every query
that their database saw.

    python benchmarks/real_programs.py [--only datasette mlflow prefect] [--folder .programs]

Installs each from PyPI into a virtual environment without Ask Less, fills it with made-up data and
asks twenty pages: first bare, then recorded, then recorded with twenty at once. Prints, for each:
pages whose body differs; queries recorded against what the server's own log has (mlflow and
prefect, on a PostgreSQL of Debian's package); pages asked against requests recorded; pages whose
queries differ when twenty are asked at once. Exit code 1 where something differs.
"""

# ruff: noqa: ARG002  (programs share one interface)

from __future__ import annotations

import argparse
import json
import os
import re
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "src")]
from askless.capture.reading import read  # noqa: E402
from askless.core.records.model import Request  # noqa: E402
from tests import servers  # noqa: E402

# What changes from one run to the next by itself: times, durations, identifiers that are made up at
# random.
VOLATILE = re.compile(
    rb"\d{4}-\d\d-\d\d[T ][\d:.]+(?:Z|\+00:00)?|[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f-]{22}|\b[0-9a-f]{32}\b|\b1[78]\d{8,11}\b"
    rb"|127\.0\.0\.1(?::|%3A)\d+|/tmp/\w+|\"?(?:query_)?(?:ms|duration|estimated_\w+)\"?: ?[\d.e-]+|[\d.]+ ?ms|\"name\": ?\"[a-z]+-[a-z]+(?:-\d+)?\""
)


class Page(NamedTuple):
    """One page: how it is asked."""

    method: str
    path: str
    body: dict[str, Any] | None = None


class Program:
    """One application. `system` is the database whose log is compared, '' where it keeps none."""

    name = ""
    system = ""
    start = ""  # a page that answers once it is up

    def command(self, port: int, database: str, folder: Path) -> list[str]:
        """The words that start it."""
        raise NotImplementedError

    def environment(self, database: str) -> dict[str, str]:
        """Variables that it reads."""
        return {}

    def fill(self, base: str) -> None:
        """Put data into it."""

    def pages(self, base: str) -> list[Page]:
        """Twenty pages."""
        raise NotImplementedError


def ask(base: str, page: Page, warm_up: bool = False) -> tuple[int, bytes]:
    """Status and body of a page."""
    data = json.dumps(page.body).encode() if page.body is not None else None
    headers = {"Content-Type": "application/json"} | (
        {"X-Ask-Less-Warm-Up": "1"} if warm_up else {}
    )
    request = urllib.request.Request(base + page.path, data, headers, method=page.method)
    try:
        with urllib.request.urlopen(request, timeout=60) as answer:
            return answer.status, answer.read()
    except urllib.error.HTTPError as error:
        return error.code, error.read()


class Datasette(Program):
    """A browser of SQLite files."""

    name = "datasette"
    start = "/-/versions.json"

    def command(self, port: int, database: str, folder: Path) -> list[str]:
        file = folder / "office.db"
        with sqlite3.connect(file) as db:
            db.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT, flag TEXT)")
            db.execute(
                "CREATE TABLE call (id INTEGER PRIMARY KEY, vessel_id INTEGER REFERENCES vessel(id), status TEXT)"
            )
            db.executemany(
                "INSERT INTO vessel VALUES (?, ?, ?)", [(n, f"Tern {n}", "NO") for n in range(200)]
            )
            db.executemany(
                "INSERT INTO call VALUES (?, ?, ?)", [(n, n % 200, "due") for n in range(2000)]
            )
        return ["datasette", str(file), "-p", str(port)]

    def pages(self, base: str) -> list[Page]:
        paths = [
            "/",
            "/office",
            "/office/vessel",
            "/office/call",
            "/office/call.json",
            "/office/vessel.json?_size=5",
        ]
        paths += [f"/office/vessel/{n}" for n in (1, 7, 42, 105)] + [
            f"/office/call/{n}.json" for n in (1, 9, 400)
        ]
        paths += [
            "/office/call?status=due",
            "/office/call?_facet=vessel_id",
            "/office/vessel?name__contains=9",
        ]
        paths += [
            "/office/-/query?sql=select+count(*)+from+call",
            "/office/call?_sort_desc=id",
            "/-/plugins.json",
        ]
        return [Page("GET", path) for path in [*paths, "/office/call.json?_next=100"]]


class Mlflow(Program):
    """A store of experiments: Flask after an ASGI server, SQLAlchemy."""

    name = "mlflow"
    system = "postgresql"
    start = "/health"

    def command(self, port: int, database: str, folder: Path) -> list[str]:
        url = database.replace("postgresql://", "postgresql+psycopg2://")
        root = str(folder / "files")
        return [
            "mlflow",
            "server",
            "--backend-store-uri",
            url,
            "--port",
            str(port),
            "--workers",
            "1",
            "--artifacts-destination",
            root,
        ]

    def environment(self, database: str) -> dict[str, str]:
        return {
            "MLFLOW_DISABLE_TELEMETRY": "true",
            "DO_NOT_TRACK": "true",
            "MLFLOW_SERVER_ENABLE_JOB_EXECUTION": "false",
        }

    def fill(self, base: str) -> None:
        api = "/api/2.0/mlflow"
        for n in range(6):
            _, answer = ask(
                base, Page("POST", f"{api}/experiments/create", {"name": f"tides {n}"}), True
            )
            experiment = json.loads(answer)["experiment_id"]
            for turn in range(5):
                made = {
                    "experiment_id": experiment,
                    "start_time": 1000 + 100 * n + turn,
                    "run_name": f"run {turn}",
                }
                run = json.loads(ask(base, Page("POST", f"{api}/runs/create", made), True)[1])[
                    "run"
                ]["info"]["run_id"]
                ask(
                    base,
                    Page(
                        "POST",
                        f"{api}/runs/log-metric",
                        {"run_id": run, "key": "m", "value": turn, "timestamp": 1},
                    ),
                    True,
                )
                ask(
                    base,
                    Page(
                        "POST",
                        f"{api}/runs/set-tag",
                        {"run_id": run, "key": "pier", "value": str(turn)},
                    ),
                    True,
                )

    def pages(self, base: str) -> list[Page]:
        api = "/api/2.0/mlflow"
        found = json.loads(
            ask(base, Page("POST", f"{api}/experiments/search", {"max_results": 10}), True)[1]
        )
        ids = sorted(
            each["experiment_id"]
            for each in found["experiments"]
            if each["name"].startswith("tides")
        )
        pages = [Page("GET", f"{api}/experiments/get?experiment_id={each}") for each in ids[:6]]
        pages += [
            Page("GET", f"{api}/experiments/get-by-name?experiment_name=tides%20{n}")
            for n in range(4)
        ]
        pages += [
            Page(
                "POST", f"{api}/runs/search", {"experiment_ids": [each], "order_by": ["start_time"]}
            )
            for each in ids[:6]
        ]
        pages += [
            Page("POST", f"{api}/experiments/search", {"max_results": 10, "order_by": ["name ASC"]})
        ]
        pages += [
            Page(
                "POST",
                f"{api}/runs/search",
                {"experiment_ids": ids, "filter": "tags.pier = '2'", "order_by": ["start_time"]},
            )
        ]
        return [*pages, Page("GET", "/health"), Page("GET", f"{api}/registered-models/search")]


class Prefect(Program):
    """An orchestrator: FastAPI, SQLAlchemy on asyncpg."""

    name = "prefect"
    system = "postgresql"
    start = "/api/health"

    def command(self, port: int, database: str, folder: Path) -> list[str]:
        return ["prefect", "server", "start", "--port", str(port), "--no-services"]

    def environment(self, database: str) -> dict[str, str]:
        return {
            "PREFECT_API_DATABASE_CONNECTION_URL": database.replace("postgresql://", "postgresql+asyncpg://"),
            "PREFECT_SERVER_ANALYTICS_ENABLED": "false", "DO_NOT_TRACK": "1", "PREFECT_SERVER_UI_ENABLED": "false",
        }  # fmt: skip

    def fill(self, base: str) -> None:
        for n in range(5):
            flow = json.loads(
                ask(base, Page("POST", "/api/flows/", {"name": f"tide {n}"}), True)[1]
            )["id"]
            for turn in range(4):
                run = {
                    "flow_id": flow,
                    "name": f"run {turn}",
                    "state": {"type": "SCHEDULED", "name": "Scheduled"},
                }
                ask(base, Page("POST", "/api/flow_runs/", run), True)

    def pages(self, base: str) -> list[Page]:
        flows = json.loads(
            ask(base, Page("POST", "/api/flows/filter", {"sort": "NAME_ASC"}), True)[1]
        )
        pages = [Page("GET", f"/api/flows/{flow['id']}") for flow in flows[:5]]
        pages += [Page("GET", f"/api/flows/name/tide%20{n}") for n in range(4)]
        pages += [
            Page("POST", "/api/flows/filter", {"sort": "NAME_ASC", "limit": n}) for n in (1, 2, 3)
        ]
        pages += [
            Page("POST", "/api/flow_runs/count", {}),
            Page("POST", "/api/flows/count", {}),
            Page("GET", "/api/health"),
        ]
        pages += [
            Page("POST", "/api/flow_runs/count", {"flows": {"name": {"any_": [f"tide {n}"]}}})
            for n in range(5)
        ]
        return pages


@contextmanager
def running(
    program: Program, bin_: Path, database: str, folder: Path, capture: Path | None
) -> Iterator[str]:
    """The program, started and answering; its address."""
    port = servers.free_port()
    words = program.command(port, database, folder)
    words[0] = str(bin_ / words[0])
    if capture is not None:
        words = [
            sys.executable,
            "-m",
            "askless",
            "capture",
            "app",
            "-o",
            str(capture),
            "--",
            *words,
        ]
    env = {
        **os.environ,
        "PYTHONPATH": str(ROOT / "src"),
        "PATH": f"{bin_}{os.pathsep}{os.environ['PATH']}",
        "HOME": str(folder),
    }
    if capture is None:
        env.pop("PYTHONPATH")
    with (folder / "log").open("wb") as log:
        process = subprocess.Popen(
            words,
            env=env | program.environment(database),
            stdout=log,
            stderr=log,
            cwd=folder,
            start_new_session=True,
        )
        try:
            base, deadline = f"http://127.0.0.1:{port}", time.monotonic() + 180
            while True:
                try:
                    if ask(base, Page("GET", program.start), True)[0] == 200:
                        break
                except OSError:
                    pass
                if process.poll() is not None or time.monotonic() > deadline:
                    raise SystemExit(
                        f"{program.name} did not start:\n" + (folder / "log").read_text()[-2000:]
                    )
                time.sleep(0.2)
            yield base
        finally:
            os.killpg(process.pid, signal.SIGTERM)
            try:
                process.wait(30)
            except subprocess.TimeoutExpired:
                os.killpg(process.pid, signal.SIGKILL)
                process.wait()


def kept(body: bytes) -> bytes:
    """A body without what changes by itself."""
    return VOLATILE.sub(b"~", body)


def own(request: Request) -> Counter[str]:
    """The shapes that a request asked, without noise."""
    return Counter(
        request.statement(i).shape.text
        for i in range(len(request))
        if not request.statement(i).shape.noise
    )


def logged(server: servers.Server, since: int) -> int:
    """How many statements that are no noise the server has logged."""
    from askless.core.sql.shape import shape_of

    texts = (
        re.sub(r"^(?:statement: |execute [^:]+: )", "", text) for text in server.statements(since)
    )
    return sum(not shape_of(text, "postgresql").noise for text in texts)


class Office:
    """Where programs are tried."""

    def __init__(self, folder: Path, server: servers.Server) -> None:
        self.folder = folder
        self.server = server

    def bin_of(self, program: Program) -> Path:
        """Where the program is installed."""
        venv = self.folder / program.name
        if not (venv / "bin" / program.name).exists():
            subprocess.run([sys.executable, "-m", "venv", venv], check=True)
            more = ["psycopg2-binary"] if program.name == "mlflow" else []
            subprocess.run(
                [venv / "bin" / "python", "-m", "pip", "install", "-q", program.name, *more],
                check=True,
            )
        return venv / "bin"

    def database(self, name: str) -> str:
        """The URL of a new database."""
        with self.server.connect("postgres") as db:
            db.cursor().execute(f"CREATE DATABASE {name}")
        return f"postgresql://harbour@127.0.0.1:{self.server.port}/{name}"

    def run(
        self, program: Program, recorded: bool
    ) -> tuple[list[tuple[int, bytes]], list[Request], int, list[str]]:
        """Bodies of twenty pages, what was recorded of them, what the server logged meanwhile, and
        what got mixed up.
        """
        with tempfile.TemporaryDirectory() as kept_in:
            folder = Path(kept_in)
            url = (
                self.database(f"{program.name}_{'recorded' if recorded else 'bare'}")
                if program.system
                else ""
            )
            capture = folder / "capture" if recorded else None
            with running(program, self.bin_of(program), url, folder, capture) as base:
                program.fill(base)
                pages = program.pages(base)
                for page in pages:  # whatever is done once is done now
                    ask(base, page, True)
                time.sleep(1)
                since = self.server.mark()
                bodies = [ask(base, page) for page in pages]
                time.sleep(0.5)
                count = logged(self.server, since)
                if recorded:
                    with ThreadPoolExecutor(20) as pool:
                        list(pool.map(lambda page: ask(base, page), pages))
            requests = (
                []
                if capture is None
                else [r for r in read(capture) if r.kind == "http" and not r.warm_up]
            )
            return bodies, requests, count, [page.path for page in pages]


def judge(program: Program, office: Office) -> int:
    """Try one program; how many things differ."""
    bare, _, _, _ = office.run(program, False)
    ours, requests, count, paths = office.run(program, True)
    different = [
        path
        for path, one, other in zip(paths, bare, ours, strict=True)
        if (one[0], kept(one[1])) != (other[0], kept(other[1]))
    ]
    first, second = requests[: len(paths)], requests[len(paths) :]
    asked = sum(sum(own(request).values()) for request in first)
    # Less may be asked at once, as programs cache; more is someone else's.
    alone: dict[str, list[Counter[str]]] = {}
    for request in first:
        alone.setdefault(request.path, []).append(own(request))
    mixed = sum(
        all(own(request) - one for one in alone.get(request.path, ())) for request in second
    )
    print(
        f"{program.name}: {len(paths)} pages, {len(different)} with another body; {len(first)} and at once {len(second)} requests recorded"
    )
    print(
        f"    {asked} queries recorded"
        + (f", {count} in the server's log" if program.system else "")
        + f"; {mixed} pages mixed up at once"
    )
    for path in different:
        print(f"    another body: {path}")
    wrong = len(different) + (len(requests) != 2 * len(paths)) + mixed
    return wrong + (program.system != "" and asked != count)


def main() -> int:
    """Try what was asked for."""
    programs: list[Program] = [Datasette(), Mlflow(), Prefect()]
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--only", nargs="+", choices=[program.name for program in programs])
    parser.add_argument("--folder", type=Path, default=ROOT / ".programs")
    options = parser.parse_args()
    options.folder.mkdir(exist_ok=True)
    with servers.postgresql() as server:
        office = Office(options.folder.resolve(), server)
        chosen = [
            program for program in programs if not options.only or program.name in options.only
        ]
        return 1 if sum(judge(program, office) for program in chosen) else 0


if __name__ == "__main__":
    sys.exit(main())
