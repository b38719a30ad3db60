"""Django's and SQLAlchemy's own tests, bare and recorded: the same tests must pass and fail.

    python benchmarks/orm_suites.py            both, plain and with --track-use; takes about twenty minutes
    python benchmarks/orm_suites.py --only django --labels queries prefetch_related

Fetches the source distributions into `.suites` once (or put the unpacked folders there yourself) and installs what they
need into a virtual environment of their own, where Ask Less is not installed. SQLite throughout. Exit code 1 where an
outcome differs.
"""

from __future__ import annotations

import argparse
import json
import os
import re
import subprocess
import sys
import tarfile
import tempfile
import urllib.request
import xml.etree.ElementTree as ElementTree
from pathlib import Path

PROBE = Path(__file__).resolve().parent.parent / "src" / "askless" / "probe"
VERSIONS = {"django": "5.2.19", "sqlalchemy": "2.1.9"}
LABELS = (
    "aggregation aggregation_regress annotations asgi async backends basic bulk_create composite_pk custom_columns "
    "custom_managers datatypes datetimes db_functions defer defer_regress delete delete_regress expressions "
    "expressions_case extra_regress fixtures foreign_object from_db_value generic_relations get_or_create handlers "
    "known_related_objects lookup m2m_and_m2o m2m_intermediary m2m_multiple m2m_recursive m2m_regress m2m_signals "
    "m2m_through many_to_many many_to_one many_to_one_null model_fields model_formsets model_inheritance "
    "model_inheritance_regress multiple_database null_queries one_to_one or_lookups ordering pagination "
    "prefetch_related proxy_models queries queryset_pickle raw_query reverse_lookup save_delete_hooks select_for_update "
    "select_related select_related_onetoone select_related_regress serializers signals template_backends template_tests "
    "test_client transactions transaction_hooks update user_commands view_tests wsgi"
).split()
FILES = (
    "test/orm/test_eager_relations.py test/orm/test_lazy_relations.py test/orm/test_selectin_relations.py "
    "test/orm/test_subquery_relations.py test/orm/test_joins.py test/orm/test_query.py test/orm/test_session.py "
    "test/orm/test_unitofwork.py test/orm/test_loading.py test/orm/test_events.py test/orm/test_attributes.py "
    "test/orm/test_deferred.py test/orm/test_pickled.py test/orm/test_expire.py test/orm/test_mapper.py "
    "test/orm/inheritance test/orm/declarative test/engine test/dialect/sqlite test/ext/asyncio test/sql/test_resultset.py"
).split()

Outcomes = dict[str, str]


def fetch(name: str, folder: Path) -> Path:
    """The unpacked source distribution of a package."""
    unpacked = folder / f"{name}-{VERSIONS[name]}"
    if unpacked.is_dir():
        return unpacked
    folder.mkdir(exist_ok=True)
    asked = urllib.request.Request(
        f"https://pypi.org/simple/{name}/", headers={"Accept": "application/vnd.pypi.simple.v1+json"}
    )
    with urllib.request.urlopen(asked, timeout=60) as answer:
        files = json.load(answer)["files"]
    url = next(file["url"] for file in files if file["filename"].lower() == f"{unpacked.name}.tar.gz")
    with urllib.request.urlopen(url, timeout=300) as answer, tempfile.NamedTemporaryFile(suffix=".tar.gz") as packed:
        packed.write(answer.read())
        packed.flush()
        with tarfile.open(packed.name) as archive:
            archive.extractall(folder, filter="data")
    return unpacked


def environment(folder: Path) -> Path:
    """A Python with what both suites need, and without Ask Less."""
    python = folder / "venv" / "bin" / "python"
    if not python.exists():
        folder.mkdir(exist_ok=True)
        subprocess.run([sys.executable, "-m", "venv", folder / "venv"], check=True)
        wanted = [f"{name}=={version}" for name, version in VERSIONS.items()]
        wanted += ["pytest", "greenlet", "aiosqlite", "jinja2", "tblib"]
        subprocess.run([python, "-m", "pip", "install", "-q", *wanted], check=True)
    return python


def recorded(capture: Path | None, track_use: bool) -> dict[str, str]:
    """The environment of a run."""
    env = {key: value for key, value in os.environ.items() if not key.startswith("ASKLESS")}
    if capture is not None:
        env |= {"PYTHONPATH": str(PROBE / "inject"), "ASKLESS_CAPTURE": str(capture)}
        env |= {"ASKLESS_TRACK_USE": "1"} if track_use else {}
    return env


def run_django(python: Path, source: Path, labels: list[str], env: dict[str, str]) -> Outcomes:
    """Each test's outcome."""
    words: list[str | Path] = [python, "runtests.py", "--settings=test_sqlite", "--parallel=1", "-v", "2", *labels]
    done = subprocess.run(words, cwd=source / "tests", env=env, capture_output=True, text=True, check=False)
    found = re.findall(
        r"^(\w+) \(([\w.]+)\)(?:\n.*)? \.\.\. (?:.*?)(ok|FAIL|ERROR|skipped|expected failure|unexpected success)",
        done.stderr,
        re.MULTILINE,
    )
    outcomes = {f"{case}": outcome for _, case, outcome in found}
    total = re.search(r"^Ran (\d+) tests", done.stderr, re.MULTILINE)
    if total is None:
        raise SystemExit("Django's tests did not run:\n" + done.stderr[-3000:])
    outcomes["(tests run)"] = total.group(1)
    last = done.stderr.strip().splitlines()
    outcomes["(verdict)"] = next((line for line in reversed(last) if line.startswith(("OK", "FAILED"))), "?")
    return outcomes


def run_sqlalchemy(python: Path, source: Path, files: list[str], env: dict[str, str]) -> Outcomes:
    """Each test's outcome."""
    with tempfile.TemporaryDirectory() as folder:
        report = Path(folder) / "report.xml"
        words: list[str | Path] = [
            python,
            "-m",
            "pytest",
            "-q",
            "-p",
            "no:cacheprovider",
            f"--junitxml={report}",
            *files,
        ]
        done = subprocess.run(words, cwd=source, env=env, capture_output=True, text=True, check=False)
        if not report.exists():
            raise SystemExit("SQLAlchemy's tests did not run:\n" + (done.stdout + done.stderr)[-3000:])
        outcomes = {}
        for case in ElementTree.parse(report).iter("testcase"):
            kinds = [child.tag for child in case if child.tag in ("failure", "error", "skipped")]
            outcomes[f"{case.get('classname')}::{case.get('name')}"] = kinds[0] if kinds else "ok"
        return outcomes


def queries_in(capture: Path) -> int:
    """Queries recorded, as the closing lines tell; 0 would mean that nothing was compared."""
    total = 0
    for file in capture.iterdir():
        for line in file.read_text().splitlines():
            if line.startswith('{"event":"queries"'):
                total += int(line.split('"count":', 1)[1].split(",", 1)[0])
    return total


def compare(name: str, python: Path, source: Path, parts: list[str], modes: list[bool]) -> int:
    """Run one suite bare and recorded; the number of tests that came out differently."""
    run = {"django": run_django, "sqlalchemy": run_sqlalchemy}[name]
    bare = run(python, source, parts, recorded(None, False))
    passed = sum(outcome == "ok" for outcome in bare.values())
    print(f"{name} {VERSIONS[name]}: bare {len(bare)} tests, {passed} pass", flush=True)
    differing = 0
    for track_use in modes:
        with tempfile.TemporaryDirectory() as folder:
            ours = run(python, source, parts, recorded(Path(folder), track_use))
            queries = queries_in(Path(folder))
        different = {
            test: (bare.get(test, "absent"), ours.get(test, "absent"))
            for test in sorted(bare.keys() | ours.keys())
            if bare.get(test) != ours.get(test)
        }
        mode = "recorded, --track-use" if track_use else "recorded"
        print(
            f"  {mode}: {len(ours)} tests, {queries:,} queries recorded, {len(different)} come out differently",
            flush=True,
        )
        for test, (before, after) in different.items():
            print(f"    {test}: {before} -> {after}")
        if not queries:
            print("    nothing was recorded: this compares nothing")
        differing += len(different) + (not queries)
    return differing


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--only", choices=list(VERSIONS))
    parser.add_argument("--labels", nargs="+", help="parts of the suite, as its own runner names them")
    parser.add_argument("--folder", type=Path, default=Path(".suites"))
    parser.add_argument("--mode", choices=["plain", "track-use"])
    options = parser.parse_args()
    where = options.folder.resolve()
    interpreter = environment(where)
    wanted_modes = {"plain": [False], "track-use": [True], None: [False, True]}[options.mode]
    total = 0
    for suite, defaults in (("django", LABELS), ("sqlalchemy", FILES)):
        if options.only in (None, suite):
            chosen = options.labels or defaults
            total += compare(suite, interpreter, fetch(suite, where), chosen, wanted_modes)
    sys.exit(1 if total else 0)
