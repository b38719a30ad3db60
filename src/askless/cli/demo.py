"""`askless demo`: the whole story on the made-up harbour office, in under a minute."""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Sequence
from importlib.util import find_spec
from pathlib import Path

import askless.demo
from askless import sources
from askless.cli import capture
from askless.cli.common import file
from askless.cli.demo_console import free_port, shown, step, title
from askless.core.errors import AskLessError
from askless.output import notices

EXAMPLES = """  askless demo                       everything in ./harbour-demo
  askless demo --out /tmp/harbour    somewhere else
  askless demo --relay postgresql://harbour@127.0.0.1/empty     pages in JavaScript through a relay, on an empty database
  askless demo --only-build          only the database and the application"""

PAGES = (
    "/calls/due",
    "/calls/29990",
    "/berths",
    "/statistics",
    "/inspections",
    "/vessels",
    "/vessels/H00042",
    "/calls/files?first=29861&last=29900",
    "/vessels/busiest",
    "/calls/history?page=500&after=25000",
    "/clearances/77/ask",
    "/calls/29990/manifest/check?goods=tea,wool,wine,cocoa,grain",
    "/log",
)
TWIN_PAGES = ("/calls/due", "/berths", "/inspections")
LOOKUP = "SELECT * FROM vessel WHERE call_sign = 'H00042'"
INDEX = "CREATE INDEX vessel_call_sign ON vessel (call_sign)"


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "--out",
        metavar="DIR",
        type=file,
        default="harbour-demo",
        help="output folder (default: harbour-demo)",
    )
    parser.add_argument(
        "--repeat", metavar="N", type=int, default=8, help="visits of each page (default: 8)"
    )
    parser.add_argument(
        "--only-build",
        action="store_true",
        help="build the database and the applications, but run nothing",
    )
    parser.add_argument(
        "--django",
        action="store_true",
        help="run three pages of the office under Django instead, next to the same pages under "
        "SQLAlchemy",
    )
    parser.add_argument(
        "--relay",
        metavar="URL",
        help="run two pages of the office in JavaScript instead and record them through a relay; "
        "URL is an empty PostgreSQL database",
    )
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Build, record as grown, read, explain, try, record as tuned, compare, judge."""
    started = time.monotonic()
    os.environ["PAGER"] = ""  # what it shows is one text, from its first step to its last
    if find_spec("flask") is None:
        raise AskLessError(
            "demo-extra-missing",
            "the demo's application needs Flask",
            "install the extra: pip install 'ask-less[demo]'",
        )
    out: Path = options.out
    if options.django and find_spec("django") is None:
        raise AskLessError(
            "demo-extra-missing",
            "the Django demo needs Django",
            "install the extra: pip install 'ask-less[demo-django]'",
        )
    if options.relay:
        from askless.cli import demo_relay

        demo_relay.run(options.relay, out, options.repeat)
        notices.note(f"\nDone in {time.monotonic() - started:.0f} s. Everything is in {out}.")
        return 0
    application = build(out)
    url = f"sqlite:///{out / 'harbour.db'}"
    if options.only_build:
        notices.note(f"built {out}: run it with: {Path(sys.executable).name} {application} {url}")
        return 0
    for old in (out / name for name in ("grown", "tuned", "django-grown", "django-tuned")):
        if old.exists():
            shutil.rmtree(old)
    if options.django:
        _run_twins(application, url, out, options.repeat)
    else:
        _run_all(application, url, out, options.repeat)
    notices.note(
        f"\nDone in {time.monotonic() - started:.0f} s. Everything is in {out}: compare its code "
        "with the findings."
    )
    return 0


def _run_all(application: Path, url: str, out: Path, times: int) -> None:
    """The whole story, page by page."""
    _record(application, url, out / "grown", "grown", times)
    step("queries per route", ["requests", str(out / "grown")])
    step(
        "the slowest request, query by query",
        ["timeline", str(out / "grown"), "--route", "/calls/due"],
    )
    step("findings and advice", ["findings", str(out / "grown")])
    step("the execution plan", ["plan", str(out / "grown"), "--db", url, "--top", "3"])
    step("try the index on a copy", ["trial", "--db", url, "--index", INDEX, "--sql", LOOKUP])
    _record(application, url, out / "tuned", "tuned", times)
    step(
        "the tuned pages compared with the original ones",
        ["compare", str(out / "grown"), str(out / "tuned")],
    )
    step(
        "the gate: no tuned page costs more than before",
        ["gate", str(out / "tuned"), "--baseline", str(out / "grown")],
    )


def _run_twins(application: Path, url: str, out: Path, times: int) -> None:
    """The same three pages under Django and under SQLAlchemy: the same findings, each in its ORM's
    words.
    """
    grown, tuned, other = out / "django-grown", out / "django-tuned", out / "grown"
    _record_django(out, grown, "grown", times)
    step("queries per route", ["requests", str(grown)])
    step("findings and advice for Django", ["findings", str(grown)])
    _record(application, url, other, "grown", times, TWIN_PAGES)
    title("the same pages under SQLAlchemy")
    print("\n".join(_compared(_advice_by_finding(grown), _advice_by_finding(other))))
    _record_django(out, tuned, "tuned", times)
    step("the tuned pages compared with the original ones", ["compare", str(grown), str(tuned)])
    step(
        "the gate: no tuned page costs more than before",
        ["gate", str(tuned), "--baseline", str(grown)],
    )


Place = tuple[str, str, str, str]


def _advice_by_finding(path: Path) -> dict[Place, str]:
    """What a capture's findings say, apart from the ORM: route, pattern, variant, table; and the
    first advice's code.
    """
    from askless.api.captures import read

    return {
        (f.route, f.pattern, f.variant, f.tables[0] if f.tables else ""): f.advice[0].code
        if f.advice
        else ""
        for f in read(path).findings()
    }


def _compared(django: dict[Place, str], sqlalchemy: dict[Place, str]) -> list[str]:
    """Both twins' findings next to each other."""
    lines = []
    for finding in sorted(django.keys() | sqlalchemy.keys()):
        route, pattern, variant, table = finding
        where = (
            "both"
            if finding in django and finding in sqlalchemy
            else "Django only"
            if finding in django
            else "SQLAlchemy only"
        )
        lines.append(f"{where}: {pattern} ({variant}) on {table}, {route}")
        for name, twin in (("Django", django), ("SQLAlchemy", sqlalchemy)):
            if twin.get(finding):
                lines.append(f"    {name + ':':12}{twin[finding]}")
    same = len(django.keys() & sqlalchemy.keys())
    return [
        *lines,
        "",
        f"{same} of {len(django.keys() | sqlalchemy.keys())} findings are the same in both.",
    ]


def build(out: Path) -> Path:
    """Copy the application out, so that it can be read and changed, and fill its database; the
    application's path.
    """
    source = Path(askless.demo.__file__).parent / "harbour"
    try:
        out.mkdir(parents=True, exist_ok=True)
        for twin in ("harbour", "harbour_django"):
            shutil.copytree(
                source.parent / twin,
                out / twin,
                dirs_exist_ok=True,
                ignore=shutil.ignore_patterns("__pycache__"),
            )
    except OSError as error:
        raise AskLessError(
            "folder-unwritable",
            f"can't write into {out}: {error.strerror}",
            "name another folder with --out",
        ) from None
    database = out / "harbour.db"
    if not database.exists():
        notices.progress("building the harbour office's database")
        product = subprocess.run(
            [
                sys.executable,
                "-c",
                "import sys, data, sqlalchemy; data.fill(sqlalchemy.create_engine(sys.argv[1]))",
                f"sqlite:///{database.resolve()}",
            ],
            cwd=out / "harbour",
            capture_output=True,
            text=True,
            check=False,
        )
        notices.progress_done()
        if product.returncode:
            database.unlink(missing_ok=True)
            raise AskLessError(
                "demo-build-failed",
                "the demo's database could not be built: " + product.stderr.strip()[-300:],
                "check the disk",
            )
    return out / "harbour" / "app.py"


def _record(
    application: Path,
    url: str,
    folder: Path,
    pages: str,
    times: int,
    visited: Sequence[str] = PAGES,
) -> None:
    port = free_port()
    program = [str(application), url, "--port", str(port), "--pages", pages]
    _visit(program, folder, pages, [f"http://127.0.0.1:{port}{page}" for page in visited], times)


def _record_django(out: Path, folder: Path, pages: str, times: int) -> None:
    address = f"127.0.0.1:{free_port()}"
    program = [str(out / "harbour_django" / "manage.py"), "runserver", address, "--noreload"]
    variables = (("HARBOUR_DB", str((out / "harbour.db").resolve())), ("HARBOUR_PAGES", pages))
    urls = [f"http://{address}{page}" for page in TWIN_PAGES]
    _visit(program, folder, pages, urls, times, variables)


def _visit(
    program: Sequence[str],
    folder: Path,
    pages: str,
    urls: Sequence[str],
    times: int,
    variables: Sequence[tuple[str, str]] = (),
) -> None:
    title(f"record the pages {'as they grew' if pages == 'grown' else 'as tuned'}")
    shown(
        [
            "capture",
            "app",
            "-o",
            str(folder),
            "--visit",
            urls[0],
            "...",
            "--",
            "python",
            *program[:2],
            "...",
        ]
    )
    sys.stdout.flush()
    source = sources.load("app")
    values = {option.name: option.default for option in source.options}
    values |= {
        "program": [sys.executable, *program],
        "visit": urls,
        "repeat": times,
        "strict_route": [],
        "variables": variables,
    }
    capture.record(source, values, folder)
