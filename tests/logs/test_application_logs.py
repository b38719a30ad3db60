"""Logs of applications: by a pattern, by the fields of JSON lines, and as Django and SQLAlchemy
really write them.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
import textwrap
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, strategies as st

import askless
from askless.sources.logs.logged_values import values_of
from tests.conftest import Ran, findings, run

TOML = r"""
[logs.office]
pattern = '^(?P<time>\S+ \S+) \[(?P<request>\w+)\] (?P<duration_ms>[\d.]+) ms, (?P<rows>\d+) rows: (?P<sql>.*?)(?: -- (?P<parameters>\[.*\]))?$'

[logs.lines]
system = "mysql"
fields = { time = "ts", sql = "db.sql", parameters = "db.values", duration_ms = "took", request = "id", route = "page", session = "thread" }
"""


def line(turn: int, request: int) -> str:
    """A line with colours, whose statement goes on on the next one."""
    return (
        f"2026-11-27 21:00:{request:02}.{turn:03} [req{request}] \x1b[1m0.25 ms\x1b[0m, 1 rows: SELECT name\n"
        f"  FROM vessel WHERE id = $1 -- [{9000 + turn}]\n"
        "2026-11-27 21:00:43.500 something else happened\n"
    )


@pytest.fixture
def project(tmp_path: Path) -> Path:
    (tmp_path / "askless.toml").write_text(TOML)
    return tmp_path


def captured(project: Path, text: str, form: str, *words: object) -> Ran:
    (project / "app.log").write_text(text)
    return run("capture", "log", "app.log", "-o", "calls", "--format", form, *words, cwd=project)


def test_json_lines_by_field_names(project: Path) -> None:
    def one(turn: int, request: int) -> str:
        return json.dumps(
            {
                "ts": f"2026-11-27T21:00:{request:02}.{turn:03}Z", "id": f"req{request}", "page": "/calls/due", "took": 0.4, "thread": "t1",
                "db": {"sql": "SELECT name FROM vessel WHERE id = ?", "values": [9000 + turn]}, "level": "debug",
            }
        )  # fmt: skip

    text = "\n".join(
        [
            *(one(turn, request) for request in range(3) for turn in range(6)),
            '{"ts": "x", "level": "info"}',
            "plain",
        ]
    )
    ran = captured(project, text, "lines")
    assert ran.code == 0, ran.err
    read = askless.read(project / "calls", values=True)
    assert [(row.route, row.queries) for row in read.requests] == [("/calls/due", 6)] * 3
    assert {query.parameters for query in read.queries} == {str(9000 + turn) for turn in range(6)}
    assert {(query.system, query.duration_ms) for query in read.queries} == {("mysql", 0.4)}
    (found,) = findings(project / "calls")
    assert (found["pattern"], found["evidence"], found["route"]) == (
        "n-plus-one",
        "repeated",
        "/calls/due",
    )


def test_a_pattern_of_the_projects_own(project: Path) -> None:
    text = "".join(
        line(turn, request).replace("SELECT name\n  FROM", "SELECT name FROM")
        for request in range(2)
        for turn in range(5)
    )
    ran = captured(project, text, "office")
    assert ran.code == 0, ran.err
    read = askless.read(project / "calls", values=True)
    assert sorted(row.queries for row in read.requests) == [5, 5], "request ids tell them apart"
    assert {(query.statement, query.rows, query.duration_ms) for query in read.queries} == {
        ("SELECT name FROM vessel WHERE id = $1", 1, 0.25)
    }
    assert sorted({query.parameters for query in read.queries}) == [
        str(9000 + turn) for turn in range(5)
    ]


@pytest.mark.parametrize(
    "toml, word",
    [
        ("[logs.office]\npattern = '(?P<time>.*)'", "has no group or field for the statement"),
        ("[logs.office]\npattern = '(?P<sql>.*'", "an invalid pattern"),
        (
            "[logs.office]\npattern = '(?P<sql>.*)(?P<colour>.*)'",
            "names colour, which are unknown",
        ),
        (
            "[logs.office]\nfields = { sql = 'a' }\npattern = 'x(?P<sql>.)'",
            "either a pattern or fields",
        ),
        ("[logs.office]\npattern = '(?P<sql>.*)'\nsystem = 'paper'", "an unknown system 'paper'"),
        ("[logs.office]\nptatern = 'x'", "is invalid"),
    ],
)
def test_layouts_that_can_not_be_used(toml: str, word: str, tmp_path: Path) -> None:
    (tmp_path / "askless.toml").write_text(toml)
    ran = captured(tmp_path, "x\n", "office")
    assert (
        ran.code == 2
        and word in ran.err
        and "askless.toml" in ran.err
        and "Traceback" not in ran.err
    ), ran.err


def test_a_log_in_another_layout_is_told(project: Path) -> None:
    ran = captured(project, "good morning\n" * 1200, "office")
    assert ran.code == 2 and "no line fits the layout" in ran.err
    assert "did you mean office?" in captured(project, "", "ofice").err


def written(script: str, folder: Path) -> str:
    """What a real program writes to standard error."""
    (folder / "program.py").write_text(textwrap.dedent(script))
    done = subprocess.run(
        [sys.executable, folder / "program.py"],
        capture_output=True,
        text=True,
        check=True,
        timeout=60,
        cwd=folder,
    )
    return done.stderr


DJANGO = """
    import logging, time
    import django
    from django.conf import settings
    settings.configure(DEBUG=True, DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}},
                       INSTALLED_APPS=["django.contrib.contenttypes"], DEFAULT_AUTO_FIELD="django.db.models.AutoField")
    django.setup()
    logging.basicConfig(format="%(asctime)s %(levelname)s %(name)s %(message)s")
    from django.contrib.contenttypes.models import ContentType
    from django.db import connection
    with connection.schema_editor() as editor:
        editor.create_model(ContentType)
    ContentType.objects.bulk_create(ContentType(app_label="office", model="m%d" % n) for n in range(8))
    logging.getLogger("django.db.backends").setLevel(logging.DEBUG)
    for key in range(1, 8):
        ContentType.objects.get(pk=key)
"""
SQLALCHEMY = """
    import sqlalchemy as sa
    engine = sa.create_engine("sqlite://", echo=True)
    vessel = sa.Table("vessel", sa.MetaData(), sa.Column("id", sa.Integer, primary_key=True), sa.Column("name", sa.String))
    import logging, sys
    logging.getLogger("sqlalchemy.engine.Engine").handlers[:] = [logging.StreamHandler(sys.stderr)]
    logging.getLogger("sqlalchemy.engine.Engine").handlers[0].setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s %(message)s"))
    with engine.begin() as connection:
        vessel.create(connection)
        for key in range(1, 8):
            connection.execute(sa.select(vessel).where(vessel.c.id == key)).all()
"""


@pytest.mark.parametrize(
    "name, script, table",
    [("django", DJANGO, "django_content_type"), ("sqlalchemy", SQLALCHEMY, "vessel")],
)
def test_what_orms_really_write(name: str, script: str, table: str, tmp_path: Path) -> None:
    ran = captured(tmp_path, written(script, tmp_path), name)
    assert ran.code == 0, ran.err
    look_ups: list[Any] = [
        one
        for one in askless.read(tmp_path / "calls", values=True).queries
        if f"FROM {table}" in one.statement.replace('"', "").replace("\n", "")
        and "WHERE" in one.statement
    ]
    assert [one.parameters for one in look_ups][:7] == [str(key) for key in range(1, 8)], [
        one.statement for one in look_ups
    ]
    (found,) = [one for one in findings(tmp_path / "calls") if one["pattern"] == "n-plus-one"]
    assert found["tables"] == [table]


WRITTEN = Path(__file__).with_name("written")
# Of each log: whether parameters are next to the statement, the keys that were looked up, the
# statements that lookups are not.
KEYS = {
    "activerecord": ["1", "2", "3", "4", "5"], "doctrine": ["1", "2", "3"], "drizzle": ["1", "2", "3"],
    "eclipselink": ["'1'", "'2'", "'3'"], "hibernate": ["'1'", "'2'", "'3'"], "hibernate-formatted": ["'1'", "'2'", "'3'"],
    "knex": ["1", "2", "3"], "peewee": ["1", "1", "1"], "sequel": ["1", "2", "3"], "sequelize": ["1", "2", "3"],
    "sequelize-benchmark": ["1", "2", "3"], "typeorm-file": ["1", "2", "3"], "typeorm-formatted": ["1", "2", "3"],
}  # fmt: skip
INSERTED = {
    "drizzle": "Tern's\nx",
    "doctrine": "Tern's\nx",
    "peewee": "Tern's\nx",
    "typeorm-file": "Tern's\nx 0",
    "typeorm-formatted": "Tern's\nx 0",
}
KEYED = re.compile(r"""WHERE \(*[`"]?(?:\w+[`"]?\.[`"]?)?id[`"]? ?= ?(\?|\$1|\d+)""", re.IGNORECASE)


@pytest.mark.parametrize("name", KEYS)
def test_logs_that_orms_of_other_languages_wrote(name: str, tmp_path: Path) -> None:
    """Made by the programs in written/programs. The format is seen; nothing that is not a statement
    gets into one.
    """
    ran = run("capture", "log", WRITTEN / f"{name}.log", "-o", tmp_path / "calls")
    assert ran.code == 0 and f"look like {name.split('-')[0]};" in ran.err, ran.err
    queries: list[Any] = list(askless.read(tmp_path / "calls", values=True).queries)
    found = [(KEYED.search(" ".join(one.statement.split())), one) for one in queries]
    keys = [
        one.parameters.split(", ")[0] if match[1] in ("?", "$1") else match[1]
        for match, one in found
        if match
    ]
    assert keys[: len(KEYS[name])] == KEYS[name]
    for one in queries:
        assert one.statement.split()[0].isupper() or one.statement.split()[0] in (
            "insert",
            "select",
            "create",
            "begin",
            "commit",
        )
        for word in ("20:", "rror", "PARAMETERS", "Elapsed", "params", "bind", "\x1b", "Hibernate"):
            assert word not in one.statement, one.statement
    inserted = [one for one in queries if one.statement.upper().startswith("INSERT")]
    assert inserted and (name not in INSERTED or inserted[0].parameters == repr(INSERTED[name]))


def test_active_record_tells_lines_of_code_and_answers_of_its_cache_are_no_queries(
    tmp_path: Path,
) -> None:
    assert run("capture", "log", WRITTEN / "activerecord.log", "-o", tmp_path / "calls").code == 0
    text = (WRITTEN / "activerecord.log").read_text()
    queries: list[Any] = list(askless.read(tmp_path / "calls", values=True).queries)
    assert "CACHE Vessel Load" in text and len(queries) == text.count("ms)\x1b[0m") - text.count(
        "CACHE"
    )
    (found,) = [one for one in findings(tmp_path / "calls") if one["pattern"] == "n-plus-one"]
    assert [(line["file"], line["line"]) for line in found["lines"]] == [("r.rb", 11)] and found[
        "tables"
    ] == ["vessels"]


def test_threads_that_take_turns_and_a_system(tmp_path: Path) -> None:
    """What a thread binds belongs to its own statement, anyone who writes in between; `--system`
    says whose SQL it is.
    """
    lines = []
    for key in range(1, 6):
        for thread in ("exec-1", "exec-2"):
            lines.append(
                f"2026-11-28 00:00:0{key},100 DEBUG [{thread}] org.hibernate.SQL - select name from vessel where id=?"
            )
        for thread, value in (("exec-1", key), ("exec-2", 10 * key)):
            bound = f"(1:INTEGER) <- [{value}]" if key % 2 else f"[1] as [INTEGER] - [{value}]"
            lines.append(
                f"2026-11-28 00:00:0{key},101 TRACE [{thread}] org.hibernate.orm.jdbc.bind - binding parameter {bound}"
            )
    (tmp_path / "app.log").write_text("\n".join(lines))
    assert (
        run(
            "capture", "log", tmp_path / "app.log", "-o", tmp_path / "calls", "--system", "mariadb"
        ).code
        == 0
    )
    queries: list[Any] = list(askless.read(tmp_path / "calls", values=True).queries)
    assert {one.system for one in queries} == {"mariadb"}
    assert sorted(int(one.parameters.strip("'")) for one in queries) == sorted(
        [*range(1, 6), *range(10, 60, 10)]
    )
    ran = run("capture", "log", tmp_path / "app.log", "-o", tmp_path / "other", "--system", "paper")
    assert ran.code == 2 and "no system 'paper'" in ran.err


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers(-(2**53), 2**53) | st.text(),
        lambda inner: st.lists(inner, max_size=4),
    )
)
def test_printed_values_are_read_or_left(given_value: Any) -> None:
    values, names = values_of(json.dumps(given_value))
    assert names == () and (not isinstance(given_value, list) or len(values) == len(given_value))
    flat = (
        [one for one in given_value if not isinstance(one, list)]
        if isinstance(given_value, list)
        else []
    )
    if flat and len(flat) == len(given_value):
        assert list(values) == flat
        node = (
            "[ "
            + ", ".join(
                "undefined" if one is None else json.dumps(one, ensure_ascii=False) for one in flat
            )
            + " ]"
        )
        assert list(values_of(node)[0]) == flat
    assert values_of(str(given_value))[1] == ()
