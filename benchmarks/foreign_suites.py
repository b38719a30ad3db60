"""Test suites that no one here wrote, bare and recorded: the same tests must pass and fail.

    python benchmarks/foreign_suites.py                          all of them, in some twenty minutes
    python benchmarks/foreign_suites.py --only psycopg2 sqlite3-3.13
    python benchmarks/foreign_suites.py --again                  those with a result as well
    python benchmarks/foreign_suites.py --relay                  through the relay, those that speak to a server over TCP

Prints each test that differs; exit code 1 where one does. Fetches the source distributions into
`.suites` with pip, installs what they need into a virtual environment of their own, where Ask Less
is not installed, and starts a PostgreSQL and a MariaDB of its own (Debian's packages). A suite that
is through is not run again: its outcomes stay in `.suites/outcomes`.

A test that comes out differently is run three times more each way: one that changes by itself is
named and not counted.
"""

from __future__ import annotations

import argparse
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import tarfile
import tempfile
import xml.etree.ElementTree as ElementTree
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PROBE = ROOT / "src" / "askless" / "probe"
sys.path.insert(0, str(ROOT))
from tests import servers  # noqa: E402

NEEDS = [
    "pytest", "pytest-asyncio<1", "uvloop", "greenlet", "jinja2", "tblib", "trio", "anyio", "httpx", "python-multipart",
    "itsdangerous", "httpx2", "typing_extensions", "psycopg2-binary", "psycopg[binary]", "asyncpg", "pymysql", "mysqlclient",
    "aiomysql", "aiosqlite", "sqlalchemy", "django==5.2.*", "flask", "starlette", "setuptools<81", "python-dotenv", "asgiref",
]  # fmt: skip
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

# Tests that look for the recorder, so to speak: what they see is listed.
LISTED = {"test_cache_noleak_on_statement_values": "parameters live until they are written"}

ENDINGS = {"plain": "", "use": "-use", "relay": "-relay"}  # of the files that keep the outcomes

Outcomes = dict[str, str]
Environment = dict[str, str]


class Place:
    """Where suites are run: a folder, a Python of their own, two servers."""

    def __init__(self, folder: Path, postgresql: servers.Server, mariadb: servers.Server) -> None:
        self.folder = folder
        self.postgresql = postgresql
        self.mariadb = mariadb
        self.python = folder / "venv" / "bin" / "python"

    def prepare(self) -> None:
        """Install what the suites need, without Ask Less."""
        if not self.python.exists():
            subprocess.run([sys.executable, "-m", "venv", self.folder / "venv"], check=True)
            subprocess.run([self.python, "-m", "pip", "install", "-q", *NEEDS], check=True)

    def source(self, name: str, version: str = "") -> Path:
        """The unpacked source distribution of a package, in the version that is installed, unless
        another one is named.
        """
        told = subprocess.run(
            [self.python, "-m", "pip", "show", name], capture_output=True, text=True, check=True
        ).stdout
        installed = re.search(r"^Version: (.+)$", told, re.M)
        assert installed is not None
        version = version or installed[1]
        unpacked = self.folder / f"{name.replace('-binary', '')}-{version}"
        if not unpacked.is_dir():
            wanted = f"{name.replace('-binary', '')}=={version}"
            with tempfile.TemporaryDirectory() as packed:
                words: list[str | Path] = [
                    self.python,
                    "-m",
                    "pip",
                    "download",
                    "-q",
                    "--no-deps",
                    "--no-binary",
                    ":all:",
                    "-d",
                    packed,
                    wanted,
                ]
                subprocess.run(words, check=True)
                (archive,) = Path(packed).glob("*.tar.gz")
                with tarfile.open(archive) as opened:
                    opened.extractall(packed, filter="data")
                (inside,) = (path for path in Path(packed).iterdir() if path.is_dir())
                shutil.move(inside, unpacked)
        return unpacked


def pytest_in(place: Place, folder: Path, words: list[str], env: Environment) -> Outcomes:
    """Each test's outcome, by pytest's report."""
    with tempfile.TemporaryDirectory() as kept:
        report = Path(kept) / "report.xml"
        command: list[str | Path] = [
            place.python,
            "-m",
            "pytest",
            "-q",
            "-p",
            "no:cacheprovider",
            f"--junitxml={report}",
            *words,
        ]
        done = subprocess.run(
            command, cwd=folder, env=env, capture_output=True, text=True, check=False, timeout=1500
        )
        if not report.exists():
            raise SystemExit("the tests did not run:\n" + (done.stdout + done.stderr)[-3000:])
        outcomes: Outcomes = {}
        for case in ElementTree.parse(report).iter("testcase"):
            kinds = [child.tag for child in case if child.tag in ("failure", "error", "skipped")]
            outcomes[f"{case.get('classname')}::{case.get('name')}"] = kinds[0] if kinds else "ok"
        return outcomes


_TEST = re.compile(
    r"^(\w+) \(([\w.]+)\)(?:\n.*)? \.\.\. (?:.*?)(ok|FAIL|ERROR|skipped|expected failure|unexpected success)",
    re.M,
)


def unittest_in(command: list[str | Path], folder: Path, env: Environment) -> Outcomes:
    """Each test's outcome, by the words of unittest."""
    done = subprocess.run(
        command, cwd=folder, env=env, capture_output=True, text=True, check=False, timeout=1500
    )
    outcomes = {
        f"{case}.{name}" if not case.endswith(name) else case: found
        for name, case, found in _TEST.findall(done.stderr)
    }
    total = re.search(r"^Ran (\d+) tests", done.stderr, re.M)
    if total is None:
        raise SystemExit("the tests did not run:\n" + done.stderr[-3000:])
    outcomes["(tests run)"] = total.group(1)
    verdict = (
        line
        for line in reversed(done.stderr.strip().splitlines())
        if line.startswith(("OK", "FAILED"))
    )
    outcomes["(verdict)"] = next(verdict, "?")
    return outcomes


PARTS = [
    "dbapi",
    "factory",
    "hooks",
    "regression",
    "transactions",
    "types",
    "userfunctions",
    "backup",
    "dump",
]


def sqlite3_of(python: Path) -> Callable[[Place, Environment], Outcomes]:
    """Python's own tests of sqlite3."""

    def run(place: Place, env: Environment) -> Outcomes:
        told = subprocess.run(
            [python, "-c", "import sys; print(sys.version_info >= (3, 11))"],
            capture_output=True,
            text=True,
            check=True,
        )
        new = told.stdout.strip() == "True"
        names = [
            f"test.test_sqlite3.test_{part}" if new else f"sqlite3.test.{part}" for part in PARTS
        ]
        with tempfile.TemporaryDirectory() as folder:
            return unittest_in([python, "-m", "unittest", "-v", *names], Path(folder), env)

    return run


def psycopg2(place: Place, env: Environment) -> Outcomes:
    """psycopg2's tests."""
    more = {
        "PSYCOPG2_TESTDB": "postgres",
        "PSYCOPG2_TESTDB_HOST": "127.0.0.1",
        "PSYCOPG2_TESTDB_USER": "harbour",
    }
    more["PSYCOPG2_TESTDB_PORT"] = str(place.postgresql.port)
    return pytest_in(place, place.source("psycopg2-binary"), ["tests"], env | more)


def asyncpg(place: Place, env: Environment) -> Outcomes:
    """asyncpg's tests, without those that start servers of their own or read the package's source."""
    more = {
        "PGHOST": "127.0.0.1",
        "PGPORT": str(place.postgresql.port),
        "PGUSER": "harbour",
        "PGDATABASE": "postgres",
    }
    source = place.source("asyncpg")
    files = [f"tests/test_{name}.py" for name in (
        "cache_invalidation", "cancellation", "codecs", "copy", "cursor", "exceptions", "execute", "introspection",
        "listeners", "logging", "pool", "prepare", "record", "timeout", "transaction", "types", "utils",
    )]  # fmt: skip
    # The source's own folder would be imported in place of what is installed.
    outside = source / "outside"
    if not outside.exists():
        shutil.copytree(source / "tests", outside / "tests")
    return pytest_in(place, outside, files, env | more)


def pymysql(place: Place, env: Environment) -> Outcomes:
    """PyMySQL's tests, in the last version whose source distribution has them, without those of
    plug-ins and of sockets.
    """
    source = place.source("pymysql", "0.10.1")
    login = {
        "host": "127.0.0.1",
        "port": place.mariadb.port,
        "user": "harbour",
        "passwd": "tide",
        "use_unicode": True,
    }
    with place.mariadb.connect("harbour") as setup:
        for name in ("test1", "test2"):
            setup.cursor().execute(f"CREATE DATABASE IF NOT EXISTS {name}")
    places = [{**login, "db": "test1", "local_infile": True}, {**login, "db": "test2"}]
    (source / "pymysql" / "tests" / "databases.json").write_text(json.dumps(places))
    words = ["pymysql/tests", "-k", "not Authentication", "-c", os.devnull, "-W", "ignore"]
    return pytest_in(place, source, words, env | {"PYTHONPATH": str(source)})


def aiomysql(place: Place, env: Environment) -> Outcomes:
    """aiomysql's tests."""
    more = {
        "MYSQL_DB": "drivers",
        "MYSQL_USER": "harbour",
        "MYSQL_PASSWORD": "tide",
        "MYSQL_ROOT_PASSWORD": "tide",
    }
    source = place.source("aiomysql")
    outside = source / "outside"
    if not outside.exists():
        shutil.copytree(source / "tests", outside / "tests")
        fixture = outside / "tests" / "conftest.py"
        # Its one user is root; ours is another.
        fixture.write_text(
            fixture.read_text()
            .replace("'user': 'root'", "'user': 'harbour'")
            .replace('"root"', '"harbour"')
        )
    # Over its socket: the suite wants TLS over TCP.
    socket = place.mariadb.log.parent / "sock"
    # Its own layer over SQLAlchemy is for older ones, and waits for good with this one.
    words = [
        "tests",
        f"--mysql-unix-socket={socket}",
        "-k",
        "not ssl and not sha and not _sa_",
        "-c",
        os.devnull,
    ]
    words += ["--ignore-glob=*/sa"]
    return pytest_in(place, outside, words, env | more)


def mysqlclient(place: Place, env: Environment) -> Outcomes:
    """mysqlclient's tests."""
    source = place.source("mysqlclient")
    login = f"host = 127.0.0.1\nport = {place.mariadb.port}\nuser = harbour\npassword = tide\ndatabase = drivers"
    (source / "tests" / "own.cnf").write_text(
        f"[MySQLdb-tests]\n{login}\ndefault-character-set = utf8mb4\n"
    )
    return pytest_in(place, source / "tests", ["."], env | {"TESTDB": "own.cnf"})


def aiosqlite(place: Place, env: Environment) -> Outcomes:
    """aiosqlite's tests, which it ships."""
    with tempfile.TemporaryDirectory() as folder:
        return unittest_in(
            [place.python, "-m", "unittest", "-v", "aiosqlite.tests"], Path(folder), env
        )


def flask(place: Place, env: Environment) -> Outcomes:
    """Flask's tests, and what there asks a database."""
    return pytest_in(place, place.source("flask"), ["tests"], env)


def starlette(place: Place, env: Environment) -> Outcomes:
    """Starlette's tests."""
    return pytest_in(
        place,
        place.source("starlette"),
        ["tests", "-W", "ignore", "--ignore", "tests/middleware/test_opentelemetry.py"],
        env,
    )


def django_on(system: str) -> Callable[[Place, Environment], Outcomes]:
    """Django's tests on a database."""

    def run(place: Place, env: Environment) -> Outcomes:
        source = place.source("django") / "tests"
        engine = {"sqlite": "sqlite3", "postgresql": "postgresql"}[system]
        login = (
            f"'USER': 'harbour', 'HOST': '127.0.0.1', 'PORT': {place.postgresql.port}, "
            if system == "postgresql"
            else ""
        )
        lines = [
            f"DATABASES = {{name: {{'ENGINE': 'django.db.backends.{engine}', 'NAME': name + '_askless', {login}}}"
            " for name in ('default', 'other')}",
            *(["for each in DATABASES.values(): del each['NAME']"] if system == "sqlite" else []),
            "SECRET_KEY = 'harbour'",
            "PASSWORD_HASHERS = ['django.contrib.auth.hashers.MD5PasswordHasher']",
            "DEFAULT_AUTO_FIELD = 'django.db.models.AutoField'",
            "USE_TZ = False",
        ]
        (source / f"askless_{system}.py").write_text("\n".join(lines) + "\n")
        labels = LABELS if system == "sqlite" else DATABASE_LABELS
        words = [
            "runtests.py",
            f"--settings=askless_{system}",
            "--parallel=1",
            "-v",
            "2",
            "--noinput",
            *labels,
        ]
        return unittest_in([place.python, *words], source, env)

    return run


DATABASE_LABELS = (
    "aggregation basic bulk_create custom_managers defer delete expressions get_or_create lookup many_to_many many_to_one "
    "one_to_one prefetch_related queries select_for_update select_related transactions update"
).split()


def sqlalchemy_on(driver: str) -> Callable[[Place, Environment], Outcomes]:
    """SQLAlchemy's tests on a driver: the ORM's on sqlite3, the ones around connections and results
    on the others.
    """

    def run(place: Place, env: Environment) -> Outcomes:
        url = {
            "pysqlite": "sqlite:///:memory:",
            "aiosqlite": "sqlite+aiosqlite:///:memory:",
            "psycopg": f"postgresql+psycopg://harbour@127.0.0.1:{place.postgresql.port}/postgres",
            "psycopg2": f"postgresql+psycopg2://harbour@127.0.0.1:{place.postgresql.port}/postgres",
        }[driver]
        files = FILES if driver == "pysqlite" else OTHER_FILES
        return pytest_in(place, place.source("sqlalchemy"), ["--dburi", url, *files], env)

    return run


OTHER_FILES = (
    "test/sql/test_resultset.py test/engine/test_transaction.py test/orm/test_lazy_relations.py "
    "test/orm/test_selectin_relations.py test/orm/test_eager_relations.py"
).split()


def suites() -> dict[str, Callable[[Place, Environment], Outcomes]]:
    """All suites by name."""
    found: dict[str, Callable[[Place, Environment], Outcomes]] = {}
    for python in sorted(Path.home().glob(".pyenv/versions/*/bin/python")):
        version = ".".join(python.parent.parent.name.split(".")[:2])
        if tuple(map(int, version.split("."))) >= (3, 9):
            found[f"sqlite3-{version}"] = sqlite3_of(python)
    found |= {
        "psycopg2": psycopg2, "asyncpg": asyncpg, "aiomysql": aiomysql, "mysqlclient": mysqlclient, "aiosqlite": aiosqlite,
        "pymysql": pymysql,
        "flask": flask, "starlette": starlette,
    }  # fmt: skip
    found |= {
        f"sqlalchemy-{driver}": sqlalchemy_on(driver)
        for driver in ("pysqlite", "aiosqlite", "psycopg", "psycopg2")
    }
    return found | {f"django-{system}": django_on(system) for system in ("sqlite", "postgresql")}


def environment(capture: Path | None, track_use: bool = False) -> Environment:
    """The environment of a run, recorded where there is a folder for a capture."""
    env = {key: value for key, value in os.environ.items() if not key.startswith("ASKLESS")}
    if capture is not None:
        env |= {"PYTHONPATH": str(PROBE / "inject"), "ASKLESS_CAPTURE": str(capture)}
        env |= {"ASKLESS_TRACK_USE": "1"} if track_use else {}
    return env


def queries_in(capture: Path) -> int:
    """Queries recorded; 0 would mean that nothing was compared."""
    total = 0
    for file in capture.glob("*.jsonl"):
        for line in file.read_text().splitlines():
            if line.startswith('{"event":"queries"'):
                total += int(line.split('"count":', 1)[1].split(",", 1)[0])
    return total


# Suites that speak to a server over TCP.
RELAYED = (
    "psycopg2",
    "asyncpg",
    "mysqlclient",
    "pymysql",
    "sqlalchemy-psycopg",
    "sqlalchemy-psycopg2",
    "django-postgresql",
)


@contextmanager
def relayed(place: Place, folder: Path) -> Iterator[Place]:
    """The same place, whose servers are reached through a relay each. Captures go into the folder."""
    ports: dict[str, int] = {}
    processes = []
    for server in (place.postgresql, place.mariadb):
        port = ports[server.system] = servers.free_port()
        words = [
            sys.executable,
            "-m",
            "askless",
            "capture",
            "relay",
            "-o",
            str(folder / server.system),
        ]
        words += [
            "--listen",
            f"127.0.0.1:{port}",
            "--to",
            f"{server.system}://127.0.0.1:{server.port}",
        ]
        process = subprocess.Popen(words, stderr=subprocess.PIPE, text=True)
        assert process.stderr is not None and process.stderr.readline().startswith("Relaying")
        processes.append(process)
    try:
        yield Place(
            place.folder,
            *(
                servers.Server(one.system, ports[one.system], one.log)
                for one in (place.postgresql, place.mariadb)
            ),
        )
    finally:
        for process in processes:
            process.send_signal(signal.SIGINT)
            told = process.communicate(timeout=300)[1]
            for line in told.splitlines():
                if "not read" in line or "could not" in line or "Traceback" in line:
                    print(f"    the relay says: {line}")


def once(
    run: Callable[[Place, Environment], Outcomes], place: Place, recorded: bool, how: str
) -> tuple[Outcomes, int]:
    """One run: each test's outcome, and the queries recorded. `how`: "plain", "use" (tracked), or
    "relay".
    """
    if not recorded:
        return run(place, environment(None)), 0
    track = how == "use"
    if how == "relay":
        with tempfile.TemporaryDirectory() as folder:
            with relayed(place, Path(folder)) as other:
                outcomes = run(other, environment(None))
            return outcomes, sum(map(queries_in, Path(folder).iterdir()))
    with tempfile.TemporaryDirectory() as folder:
        outcomes = run(place, environment(Path(folder), track))
        return outcomes, queries_in(Path(folder))


def compare(
    name: str, run: Callable[[Place, Environment], Outcomes], place: Place, how: str
) -> int:
    """Run one suite bare and recorded; the number of tests that came out differently."""
    bare, _ = once(run, place, False, how)
    ours, queries = once(run, place, True, how)
    different = {test for test in bare.keys() | ours.keys() if bare.get(test) != ours.get(test)}
    listed = {test for test in different if test.rsplit("::", 1)[-1] in LISTED}
    different -= listed
    unsteady: set[str] = set()
    if different:
        for _ in range(3):
            again, more = once(run, place, False, how)[0], once(run, place, True, how)[0]
            unsteady |= {
                test
                for test in different
                if again.get(test) != bare.get(test) or more.get(test) != ours.get(test)
            }
    passed = sum(outcome == "ok" for outcome in bare.values())
    left = sorted(different - unsteady)
    print(
        f"{name}: {len(bare):,} tests, {passed:,} pass bare; {queries:,} queries recorded; {len(left)} come out differently",
        flush=True,
    )
    for test in left:
        print(f"    {test}: {bare.get(test, 'absent')} -> {ours.get(test, 'absent')}")
    for test in sorted(listed):
        print(f"    {test}: as docs/transparency.md says: {LISTED[test.rsplit('::', 1)[-1]]}")
    if unsteady:
        print(f"    {len(unsteady)} change by themselves: {', '.join(sorted(unsteady)[:5])}")
    if not queries and name not in ("flask", "starlette"):  # these have tests without a database
        print("    nothing was recorded: this compares nothing")
        return len(left) + 1
    kept = place.folder / "outcomes"
    kept.mkdir(exist_ok=True)
    (kept / f"{name}{ENDINGS[how]}.json").write_text(
        json.dumps({"different": left, "tests": len(bare), "queries": queries})
    )
    return len(left)


def main() -> int:
    """Run what was asked for."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--only", nargs="+", choices=list(suites()), metavar="SUITE")
    parser.add_argument("--again", action="store_true")
    parser.add_argument(
        "--track-use", action="store_const", dest="how", const="use", default="plain"
    )
    parser.add_argument("--relay", action="store_const", dest="how", const="relay")
    parser.add_argument("--folder", type=Path, default=ROOT / ".suites")
    options = parser.parse_args()
    folder = options.folder.resolve()
    folder.mkdir(exist_ok=True)
    differing = 0
    with ExitStack() as stack:
        postgresql = stack.enter_context(servers.postgresql(logging=False))
        place = Place(folder, postgresql, stack.enter_context(servers.mariadb()))
        place.prepare()
        for name, run in suites().items():
            known = folder / "outcomes" / f"{name}{ENDINGS[options.how]}.json"
            if (options.only and name not in options.only) or (
                options.how == "relay" and name not in RELAYED
            ):
                continue
            if known.exists() and not options.again:
                told = json.loads(known.read_text())
                print(
                    f"{name}: {told['tests']:,} tests, {len(told['different'])} come out differently (run before)"
                )
                differing += len(told["different"])
                continue
            try:
                differing += compare(name, run, place, options.how)
            except (SystemExit, subprocess.SubprocessError) as error:
                print(f"{name}: {str(error)[-600:]}", flush=True)
                differing += 1
    return 1 if differing else 0


if __name__ == "__main__":
    sys.exit(main())
