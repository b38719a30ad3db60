"""The advisor's indexes against brute force: `python benchmarks/index_advisor.py [--on sqlite]
[--scale 10] [--columns 3]`.

Every query of the harbour office's workload on one or two tables is asked with every index of up to
three columns of its tables (each made on copies, or in a transaction that is rolled back), and with
pairs of the best ones where it reads two tables. Printed is what it costs with the advisor's set
over the best cost: by PostgreSQL's planner, on SQLite by the steps of its machine, on MariaDB by
the rows that it reads. That compares choices and not speed.
"""

from __future__ import annotations

import argparse
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from itertools import permutations
from pathlib import Path

import sqlalchemy
from sqlalchemy.exc import DBAPIError

ROOT = Path(__file__).parent.parent
HARBOUR = ROOT / "src" / "askless" / "demo" / "harbour"
sys.path[:0] = [str(ROOT), str(ROOT / "benchmarks")]

from advice import SYSTEMS, url_of  # noqa: E402

from askless.core.errors import AskLessError  # noqa: E402
from askless.core.indexing.advisor import advise  # noqa: E402
from askless.core.records.index_ddl import create_index, drop_index  # noqa: E402
from askless.core.records.schema import Schema  # noqa: E402
from askless.core.sql.structure import Structure  # noqa: E402
from askless.core.sql.structure_store import structure_of  # noqa: E402
from askless.database.connecting import connect, parse_url  # noqa: E402
from askless.database.driver_query import DriverQuery  # noqa: E402
from askless.database.explaining import query_of  # noqa: E402
from askless.database.reflecting import reflect  # noqa: E402
from askless.database.servers import Limits, ScratchTables, server_of  # noqa: E402
from askless.database.workload import statement_of  # noqa: E402
from askless.reports.loading import load  # noqa: E402
from askless.reports.statement_selection import Subject, costliest, writes_of  # noqa: E402

PAGES = [
    "/calls/due",
    "/calls/{last}",
    "/berths",
    "/statistics",
    "/inspections",
    "/vessels",
    "/vessels/H00042",
]
# What the office asks next to its pages: reports and lookups of the same tables, as their authors
# wrote them.
REPORTS = [
    "SELECT status, count(*) FROM port_call GROUP BY status",
    "SELECT id, eta FROM port_call WHERE eta >= '2026-11-20' AND eta < '2026-11-22' ORDER BY eta",
    "SELECT id, eta, agent FROM port_call WHERE status = 'berthed' AND berth_id = 7",
    "SELECT id FROM port_call WHERE vessel_id = 17 AND status = 'cancelled'",
    "SELECT * FROM port_call WHERE agent = 'Silver Agency' AND status = 'due' ORDER BY eta LIMIT 10",
    "SELECT count(*) FROM vessel WHERE flag = 'NO'",
    "SELECT id, name FROM vessel WHERE owner = 'Tern Shipping 12' ORDER BY name",
    "SELECT * FROM vessel WHERE gross_tonnage > 89900",
    "SELECT tug_id, count(*) FROM tug_job WHERE starts_at >= '2026-12-20' GROUP BY tug_id",
    "SELECT * FROM tug_job WHERE pilot_id = 4 ORDER BY starts_at DESC LIMIT 20",
    "SELECT goods, sum(weight_kg) FROM manifest_line WHERE port_call_id = 421 GROUP BY goods",
    "SELECT id, goods FROM manifest_line WHERE hazard = 'flammable' AND weight_kg > 89000",
    "SELECT id, verdict FROM inspection WHERE verdict = 'detained' ORDER BY inspected_at DESC LIMIT 5",
    "SELECT id FROM clearance WHERE state = 'asked' AND port_call_id = 77",
    "SELECT c.id, v.name FROM port_call c JOIN vessel v ON v.id = c.vessel_id WHERE v.call_sign = 'H00777' ORDER BY c.eta DESC LIMIT 5",
    "SELECT c.id, v.name FROM port_call c JOIN vessel v ON v.id = c.vessel_id WHERE c.status = 'due' ORDER BY c.eta",
    "SELECT j.id, p.name FROM tug_job j JOIN pilot p ON p.id = j.pilot_id WHERE p.licence = 'L003' AND j.starts_at >= '2026-12-20'",
    "SELECT b.name, count(c.id) FROM berth b LEFT JOIN port_call c ON c.berth_id = b.id GROUP BY b.name",
    "SELECT m.goods, c.eta FROM manifest_line m JOIN port_call c ON c.id = m.port_call_id WHERE c.status = 'berthed'",
]
PAIRS_OF = 8  # so many of the best indexes of each table are tried in pairs


class Asked:
    """A query of the workload, ready to be explained."""

    def __init__(
        self, connection: sqlalchemy.Connection, subject: Subject, structure: Structure
    ) -> None:
        self.subject = subject
        self.structure = structure
        self.query: DriverQuery = query_of(
            connection, subject.text, subject.parameters, subject.names, subject.system
        )
        self.tables = [name.lower() for name in structure.tables]


Indexes = Sequence[tuple[str, tuple[str, ...]]]


class Ground:
    """Where indexes come and go, and what a query costs there."""

    def __init__(self, workshop: ScratchTables, system: str) -> None:
        self.workshop, self.connection, self.system = workshop, workshop.connection, system
        self.types: dict[str, dict[str, str]] = {}

    def keep_all(self) -> None:
        """On MariaDB, make the indexes of foreign keys again, under a name: one that the server
        made by itself is gone for good once another index serves its key, though only for a try.
        """
        for table in reflect(self.connection).tables:
            for index in table.indexes:
                if not index.unique:
                    columns = ", ".join(f"`{column}`" for column in index.columns)
                    self.workshop.run(f"ALTER TABLE `{table.name}` DROP INDEX `{index.name}`")
                    self.workshop.run(
                        f"CREATE INDEX `kept_{index.name}` ON `{table.name}` ({columns})"
                    )

    @contextmanager
    def made(self, indexes: Indexes) -> Iterator[bool]:
        """The indexes, as long as the context lasts; whether they could be made."""
        done: list[tuple[str, str]] = []
        savepoint = self.connection.begin_nested() if self.system == "postgresql" else None
        try:
            for place, (table, columns) in enumerate(indexes):
                types = self.types.get(table, {})
                self.workshop.run(
                    create_index(f"tried_{place}", table, columns, self.system, types=types)
                )
                done.append((f"tried_{place}", table))
        except (DBAPIError, AskLessError):  # a column that is too long for an index
            pass
        try:
            yield len(done) == len(indexes)
        finally:
            if savepoint is not None:
                savepoint.rollback()
            else:
                for name, table in done:
                    self.workshop.run(drop_index(name, table, self.system))

    def cost(self, asked: Asked) -> float:
        """The cost of a query as the database is."""
        server = server_of(self.connection)
        if self.system == "postgresql":
            (plan,) = server.explain(self.connection, asked.query, {}, False)
            assert plan.estimate is not None and plan.estimate.cost is not None
            return plan.estimate.cost
        # The first time a table is opened after a change, the server reads what it knows of it,
        # too.
        counted = [
            work[1]
            for _ in range(2)
            if (work := server.work(self.connection, asked.query)) is not None
        ]
        return max(float(min(counted)), 1.0)


def brute_force(
    ground: Ground, workload: Sequence[Asked], schema: Schema, columns_most: int
) -> dict[str, tuple[float, Indexes]]:
    """The best cost of each query, and the indexes that give it."""
    best: dict[str, tuple[float, Indexes]] = {
        a.subject.shape: (ground.cost(a), ()) for a in workload
    }
    singles: dict[tuple[str, str], list[tuple[float, tuple[str, ...]]]] = {}
    for table in schema.tables:
        mine = [a for a in workload if table.name.lower() in a.tables]
        names = [column.name for column in table.columns]
        tried = (
            [c for size in range(1, columns_most + 1) for c in permutations(names, size)]
            if mine
            else []
        )
        for turn, columns in enumerate(tried):
            if sys.stderr.isatty():
                print(
                    f"\r{table.name}: {turn + 1} of {len(tried)} indexes  ", end="", file=sys.stderr
                )
            with ground.made([(table.name, columns)]) as done:
                for asked in mine if done else ():
                    found = ground.cost(asked)
                    singles.setdefault((asked.subject.shape, table.name), []).append(
                        (found, columns)
                    )
                    if found < best[asked.subject.shape][0]:
                        best[asked.subject.shape] = found, [(table.name, columns)]
    for asked in workload:
        sides = [
            [
                (table.name, columns)
                for _, columns in sorted(singles[asked.subject.shape, table.name])[:PAIRS_OF]
            ]
            for table in schema.tables
            if (asked.subject.shape, table.name) in singles
        ]
        if len(sides) == 2:
            for one in sides[0]:
                for other in sides[1]:
                    with ground.made([one, other]) as done:
                        found = ground.cost(asked) if done else float("inf")
                        if found < best[asked.subject.shape][0]:
                            best[asked.subject.shape] = found, [one, other]
    return best


def fewest(
    ground: Ground, workload: Sequence[Asked], best: dict[str, tuple[float, Indexes]]
) -> list[tuple[str, tuple[str, ...]]]:
    """The indexes that brute force needs: those of every query, omitted one by one while no query
    loses 5 %.
    """
    needed = list(dict.fromkeys(index for _, indexes in best.values() for index in indexes))
    for index in list(needed):
        rest = [other for other in needed if other != index]
        with ground.made(rest):
            if all(ground.cost(a) <= 1.05 * max(best[a.subject.shape][0], 1e-9) for a in workload):
                needed = rest
    return needed


def recorded(url: str, folder: Path, calls: int) -> list[Subject]:
    """The pages as they grew and as tuned, recorded; each shape with its queries and its time."""
    found: dict[str, Subject] = {}
    for kind in ("grown", "tuned"):
        driver = folder / "drive.py"
        driver.write_text(
            f"import sys; sys.path.insert(0, {str(HARBOUR)!r})\nimport app\n"
            f"client = app.make_app({url!r}, {kind!r}).test_client()\n"
            f"for turn in range(4):\n    for page in {PAGES!r}:\n"
            f"        assert client.get(page.format(last={calls - 10})).status_code == 200\n"
        )
        words = [
            sys.executable,
            "-m",
            "askless",
            "capture",
            "app",
            "-o",
            str(folder / kind),
            "--",
            sys.executable,
            str(driver),
        ]
        subprocess.run(words, check=True, capture_output=True)
        summary, _ = load(folder / kind)
        assert writes_of(summary)("port_call", ["eta"]) == 0
        for subject in costliest(summary):
            known = found.setdefault(subject.shape, subject)
            if known is not subject:
                known.queries += subject.queries
                known.total_ns += subject.total_ns
    return list(found.values())


def compare(
    ground: Ground,
    live: sqlalchemy.Connection,
    subjects: Sequence[Subject],
    name: str,
    columns_most: int,
) -> None:
    """Advise, try everything, and print."""
    schema = reflect(live)
    ground.types = {table.name: table.types for table in schema.tables}
    workload = []
    for subject in subjects:
        structure = structure_of(subject.text, subject.system or ground.system)
        if structure is not None and structure.kind == "select" and 1 <= len(structure.tables) <= 2:
            workload.append(Asked(ground.connection, subject, structure))
    advice = advise(
        [
            statement_of(live, schema, a.subject.shape, a.structure, (a.subject.parameters, *a.subject.others), a.subject.names, a.subject.total_ns / 1e6)
            for a in workload
        ],
        schema,
        whole=True,
    )  # fmt: skip
    best = brute_force(ground, workload, schema, columns_most)
    needed = fewest(ground, workload, best)
    with ground.made([(a.table, a.columns) for a in advice]):
        ours = {a.subject.shape: ground.cost(a) for a in workload}
    before = {a.subject.shape: ground.cost(a) for a in workload}
    print(f"\n{name}: {len(workload)} queries on one or two tables")
    print(f"{'without':>10}{'best':>10}{'advisor':>10}{'ratio':>7}  query")
    for asked in sorted(workload, key=lambda a: -ours[a.subject.shape] / best[a.subject.shape][0]):
        shape = asked.subject.shape
        ratio = ours[shape] / best[shape][0]
        with_what = "; ".join(
            f"{table} ({', '.join(columns)})" for table, columns in best[shape][1]
        )
        print(
            f"{before[shape]:10.1f}{best[shape][0]:10.1f}{ours[shape]:10.1f}{ratio:7.2f}  {' '.join(asked.subject.text.split())[-90:]}"
        )
        if ratio > 1.05:
            print(f"{'':39}best with {with_what}")
    whole = sum(a.subject.queries * ours[a.subject.shape] for a in workload) / sum(
        a.subject.queries * best[a.subject.shape][0] for a in workload
    )
    worst = max(ours[a.subject.shape] / best[a.subject.shape][0] for a in workload)
    print("the advisor's set: " + "; ".join(f"{a.table} ({', '.join(a.columns)})" for a in advice))
    print(
        "brute force's set: "
        + "; ".join(f"{table} ({', '.join(columns)})" for table, columns in needed)
    )
    print(
        f"whole {whole:.3f} (aim 1.05), worst {worst:.2f} (aim 1.3), indexes {len(advice)} (brute force {len(needed)}, aim at most {len(needed) + 1})"
    )


def main(system: str, scale: int, columns_most: int) -> None:
    """Fill, record, compare."""
    with ExitStack() as stack:
        folder = stack.enter_context(tempfile.TemporaryDirectory())
        app_url = url_of(system, Path(folder), stack)
        fill = "import sys, data, sqlalchemy; data.fill(sqlalchemy.create_engine(sys.argv[1]), scale=int(sys.argv[2]))"
        subprocess.run([sys.executable, "-c", fill, app_url, str(scale)], cwd=HARBOUR, check=True)
        engine = sqlalchemy.create_engine(
            app_url, isolation_level="AUTOCOMMIT" if system != "sqlite" else None
        )
        if system == "postgresql":
            with engine.connect() as setup:
                setup.exec_driver_sql("VACUUM ANALYZE")
        engine.dispose()
        subjects = recorded(app_url, Path(folder), 3000 * scale)
        reports = [
            Subject(text, shape=str(n), queries=1, total_ns=1_000_000)
            for n, text in enumerate(REPORTS)
        ]
        url = parse_url(f"{system}{app_url[app_url.index(':') :]}")
        limits = Limits(statement_s=300.0, allow_large=True)
        live = stack.enter_context(connect(url, limits))
        tables = sqlalchemy.inspect(live).get_table_names()
        # the database is our own: indexes are made in it, in a transaction
        if system == "postgresql":
            live.rollback()
            server_of(live).begin(live, limits, write=True)
            ground = Ground(
                ScratchTables(
                    live, lambda ddl: live.exec_driver_sql(ddl).close(), "in a transaction"
                ),
                system,
            )
        else:
            ground = Ground(
                stack.enter_context(server_of(url).workshop(url, limits, tables)), system
            )
            if system == "mariadb":
                ground.keep_all()
        compare(ground, live, subjects, "the pages", columns_most)
        compare(ground, live, reports, "reports and lookups", columns_most)
        compare(ground, live, [*subjects, *reports], "all of it", columns_most)


if __name__ == "__main__":
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--on", choices=SYSTEMS, default="postgresql", help="default: postgresql")
    parser.add_argument(
        "--scale", type=int, default=10, help="size of the office, in tenths (default: 10)"
    )
    parser.add_argument(
        "--columns", type=int, default=3, help="columns of an index at most (default: 3)"
    )
    given = parser.parse_args()
    main(given.on, given.scale, given.columns)
