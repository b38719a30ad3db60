"""Whether `askless plan` names the problem of a statement on the right step, and nothing if there
is none.

    python benchmarks/plans.py                                     SQLite, PostgreSQL and MariaDB, in some three minutes
    python benchmarks/plans.py --on postgresql --url postgresql://harbour@127.0.0.1:55418/plans      a server of yours
    python benchmarks/plans.py --verbose                           and every statement that came out otherwise
    python benchmarks/plans.py --texts FOLDER                      read the text plans in results of PostgreSQL's own tests (*.out)

150 statements with one planted problem each, and 80 healthy ones (`plan_cases/statements.py`), over
the same tables on each server. A problem counts as named where an observation of its kind is on a
step of its table; any observation on a healthy statement is a false alarm. Exit code 1 where less
than 95 % are named, or there is a false alarm.
"""

from __future__ import annotations

import argparse
import json
import re
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.pool import NullPool

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "benchmarks")]
from plan_cases.statements import HEALTHY, INDEXES, PROBLEMS, SIZES, TABLES, Case, rows  # noqa: E402
from trials import DRIVERS, SYSTEMS, place_of  # noqa: E402

from askless.core.plans import read_saved  # noqa: E402
from askless.core.plans.errors import UnreadablePlan  # noqa: E402
from askless.core.plans.tree import walk  # noqa: E402
from tests.conftest import run  # noqa: E402

WORDS = {  # by which words an observation is known; the documents hold its text alone
    "reads-all": r"^reads all |rows of \w+ are read: the join column has no index",
    "unservable": r"hides it from an index|begins with a wildcard|compared with a number|makes the server convert",
    "sorts": r"^sorts its rows",
    "part": r"is then checked on each row",
    "reads-many": r"^reads .* to keep ",
    "per-row": r"^this subquery runs again",
    "builds-index": r"builds one on",
    "offset": r"^OFFSET ",
    "fan-out": r"of which DISTINCT keeps",
}


def fill(system: str, url: str) -> None:
    """The tables, their rows and indexes, and what the server knows of them."""
    engine = sa.create_engine(DRIVERS[system] + url[url.index(":") :], poolclass=NullPool)
    with engine.begin() as db:
        for name, columns in TABLES.items():
            db.exec_driver_sql(f"CREATE TABLE {name} ({columns})")
            values = list(rows(name))
            mark = "?" if system == "sqlite" else "%s"
            places = ", ".join([mark] * len(values[0]))
            for start in range(0, len(values), 2000):
                db.exec_driver_sql(
                    f"INSERT INTO {name} VALUES ({places})", values[start : start + 2000]
                )
        for index in INDEXES:
            db.exec_driver_sql(index)
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as db:
        if system in ("sqlite", "postgresql"):
            db.exec_driver_sql("ANALYZE")
        else:
            db.exec_driver_sql(f"ANALYZE TABLE {', '.join(SIZES)}").fetchall()


def observations(url: str, case: Case) -> list[tuple[str, str, str]]:
    """(kind, table of the step, text) of all that is said of a statement."""
    done = run(
        "plan", "--db", url, "--sql", case.sql, "--json", *(["--analyze"] if case.analyze else [])
    )
    if done.code not in (0, 1) or not done.out:
        return [("refused", "", done.err)]
    results: list[tuple[str, str, str]] = []
    for statement in json.loads(done.out)["statements"]:
        if statement["error"]:
            results.append(("refused", "", statement["error"]))
        for node in _nodes(statement["plan"]):
            for text in node["observations"]:
                kind = next(
                    (name for name, words in WORDS.items() if re.search(words, text)), "other"
                )
                results.append((kind, node["table"], text))
    return results


def _nodes(nodes: list[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    for node in nodes:
        yield node
        yield from _nodes(node["children"])


def is_named(case: Case, found: list[tuple[str, str, str]]) -> bool:
    """Whether one of the expected kinds is where it should."""
    return any(
        kind in case.named and (not case.table or table == case.table) for kind, table, _ in found
    )


def measure(system: str, url: str, verbose: bool) -> tuple[float, int]:
    """The share of problems that were named, and the number of false alarms."""
    asked: Counter[str] = Counter()
    named: Counter[str] = Counter()
    for case in PROBLEMS:
        if case.only and system not in case.only:
            continue
        found = observations(url, case)
        asked[case.named[0]] += 1
        named[case.named[0]] += is_named(case, found)
        if verbose and not is_named(case, found):
            print(
                f"    not named: {case.sql}\n        {[(kind, table, text[:90]) for kind, table, text in found]}"
            )
    alarms = 0
    for case in HEALTHY:
        found = observations(url, case)
        alarms += bool(found)
        if verbose and found:
            print(
                f"    false alarm: {case.sql}\n        {[(kind, table, text[:110]) for kind, table, text in found]}"
            )
    share = named.total() / asked.total()
    kinds = ", ".join(f"{kind} {named[kind]}/{asked[kind]}" for kind in asked)
    print(
        f"{system}: {named.total()} of {asked.total()} named ({share:.1%}), {alarms} of {len(HEALTHY)} false alarms; {kinds}"
    )
    return share, alarms


def _texts(folder: Path) -> Iterator[tuple[str, str]]:
    """(file, text) of each plan as text in saved results of PostgreSQL's tests; those in other
    formats are omitted.
    """
    for file in sorted(folder.rglob("*.out")):
        lines = file.read_text(errors="replace").split("\n")
        for start in [i for i, line in enumerate(lines) if line.strip() == "QUERY PLAN"]:
            ends = (i for i in range(start, len(lines)) if re.match(r"^\(\d+ rows?\)$", lines[i]))
            text = "\n".join(lines[start : next(ends, len(lines)) + 1])
            if not re.search(r'"Plan"|<explain|- Plan:', text):
                yield file.name, text


def read_texts(folder: Path, verbose: bool) -> int:
    """How many plans were refused, or came out with fewer steps than they have arrows."""
    number = refused = lost = 0
    for name, text in _texts(folder):
        number += 1
        try:
            _, plan = read_saved(text)
        except UnreadablePlan as error:
            refused += 1
            if verbose:
                print(f"    refused ({name}): {error.reason}")
            continue
        steps = [
            node
            for node in walk(plan)
            if not re.match(r"(?:InitPlan|SubPlan)\b|CTE (?!Scan)", node.detail)
        ]
        if len(steps) < text.count("->  ") + 1:
            lost += 1
            print(f"    steps lost ({name}): {text[:300]}")
    print(
        f"{number} plans as text: {number - refused - lost} read to the last step, {refused} refused, {lost} with steps lost"
    )
    return lost


def main() -> int:
    """Run what was asked for."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--on", choices=[*SYSTEMS, "mysql"], action="append")
    parser.add_argument(
        "--url", default="", help="an empty database of the one system named by --on"
    )
    parser.add_argument("--verbose", action="store_true")
    parser.add_argument("--texts", type=Path)
    options = parser.parse_args()
    if options.texts is not None:
        return int(read_texts(options.texts, options.verbose) > 0)
    failed = False
    with ExitStack() as stack:
        folder = stack.enter_context(tempfile.TemporaryDirectory())
        for system in options.on or SYSTEMS:
            url = place_of(system, options.url, Path(folder), stack)
            fill(system, url)
            share, alarms = measure(system, url, options.verbose)
            failed |= share < 0.95 or alarms > 0
    return int(failed)


if __name__ == "__main__":
    sys.exit(main())
