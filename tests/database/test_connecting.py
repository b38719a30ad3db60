"""Getting in: URLs, passwords from everywhere and shown nowhere, and what is said when it fails."""

from __future__ import annotations

import json
import stat
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from askless.core.records.schema import Schema
from askless.database.connecting import connect, parse_url
from askless.database.reflecting import reflect
from tests import servers
from tests.conftest import Ran, findings, program, refused, run
from tests.database.conftest import Office

SECRET = "ebb-and-flow"
Captured = Callable[[Office], Path]


def tables(url: str, **env: str) -> Ran:
    return run("tables", "--db", url, "--json", env=env)


@pytest.fixture(scope="module")
def guarded(office_of: Callable[..., Office]) -> Iterator[dict[str, str]]:
    """A user `pilot` with a password on each server, who may read one table only: system -> URL
    without password.
    """
    pg, maria = office_of("postgresql"), office_of("mariadb")
    pg.ask(f"CREATE ROLE pilot LOGIN PASSWORD '{SECRET}'")
    pg.ask("GRANT SELECT ON berth TO pilot")
    pg.ask("CREATE TABLE unseen (id int)")  # which no ANALYZE has counted, and the user may not
    (path,) = pg.ask("SHOW hba_file")[0]
    rules = Path(path).read_text()
    Path(path).write_text("host all pilot 127.0.0.1/32 scram-sha-256\n" + rules)
    pg.ask("SELECT pg_reload_conf()")
    maria.ask(f"CREATE USER 'pilot'@'%' IDENTIFIED BY '{SECRET}'")
    maria.ask("GRANT SELECT ON harbour.berth TO 'pilot'@'%'")
    assert pg.server is not None and maria.server is not None
    yield {
        "postgresql": f"postgresql://pilot@127.0.0.1:{pg.server.port}/harbour",
        "mariadb": f"mariadb://pilot@127.0.0.1:{maria.server.port}/harbour",
    }
    Path(path).write_text(rules)
    pg.ask("DROP TABLE unseen")


def test_the_schema_with_its_sizes(office: Office) -> None:
    ran = run("tables", "--db", office.url, "--json")
    found = {table["name"]: table for table in ran.json["tables"]}
    assert ran.json["system"] == office.system and len(found) == 11
    call = found["port_call"]
    assert call["rows"] == 3000 and call["bytes"] > 100_000 and call["primary_key"] == ["id"]
    assert {key["columns"][0]: key["table"] for key in call["foreign_keys"]} == {
        "vessel_id": "vessel",
        "berth_id": "berth",
    }
    assert any(index["columns"] == ["berth_id"] for index in call["indexes"])
    widths = {column["name"]: column["width_bytes"] for column in found["inspection"]["columns"]}
    assert widths["report"] > 300 > widths["verdict"] > 1, (
        "PostgreSQL tells what is stored, compressed"
    )
    shown = run("tables", "--db", office.url).out
    assert "port_call" in shown and "3,000" in shown and "berth_id → berth" in shown
    if office.system != "mariadb":  # MariaDB makes an index for each foreign key
        assert "vessel_id → vessel: no index" in shown


def test_a_saved_schema_stands_in_for_the_server(
    office: Office, capture_of: Captured, tmp_path: Path
) -> None:
    saved = tmp_path / "harbour.json"
    assert run("tables", "--db", office.url, "-o", saved).code == 0
    assert stat.S_IMODE(saved.stat().st_mode) == 0o600
    capture = capture_of(office)
    live = findings(capture, "--db", office.url)
    assert findings(capture, "--schema", saved) == live and live != findings(capture)
    advised = run("indexes", capture, "--schema", saved, "--json").json
    assert not advised["measured"] and advised["system"] == office.system
    assert "port_call" in {index["table"] for index in advised["indexes"]}
    broken = json.loads(saved.read_text())
    saved.write_text(json.dumps({**broken, "version": 9}))
    refused(run("findings", capture, "--schema", saved), "version 9", "askless tables --db URL")
    saved.write_text("{}")
    refused(run("findings", capture, "--schema", saved), "contains no tables")
    refused(run("findings", capture, "--schema", tmp_path / "none.json"), "can't read")


@pytest.mark.parametrize("system", ["postgresql", "mariadb"])
def test_a_password_comes_from_everywhere(
    system: str, guarded: dict[str, str], tmp_path: Path
) -> None:
    url = guarded[system]
    with_password = url.replace("pilot@", f"pilot:{SECRET}@")
    home = {"HOME": str(tmp_path)}
    assert "berth" in tables(with_password, **home).out
    assert "berth" in tables(url, ASKLESS_DB_PASSWORD=SECRET, **home).out
    assert "berth" in tables(url, **{"PGPASSWORD": SECRET, "MYSQL_PWD": SECRET}, **home).out
    refused(
        tables(url, **home),
        "ASKLESS_DB_PASSWORD",
        "~/.pgpass" if system == "postgresql" else "~/.my.cnf",
    )
    wrong = tables(url.replace("pilot@", "pilot:wrong-secret@"), **home)
    refused(wrong, "127.0.0.1", "ASKLESS_DB_PASSWORD")
    assert "wrong-secret" not in wrong.err + wrong.out
    for name, text in (
        (".pgpass", f"127.0.0.1:*:*:pilot:{SECRET}\n"),
        (".my.cnf", f"[client]\npassword = {SECRET}\n"),
    ):
        (tmp_path / name).write_text(text)
        (tmp_path / name).chmod(0o600)
    ran = tables(url, **home)
    assert ran.code == 0 and SECRET not in ran.out


@pytest.mark.parametrize("system", ["postgresql", "mariadb"])
def test_no_rights_on_a_table(system: str, guarded: dict[str, str]) -> None:
    url = guarded[system].replace("pilot@", f"pilot:{SECRET}@")
    allowed = run("plan", "--db", url, "--sql", "SELECT * FROM berth", "--json")
    assert allowed.code == 0, allowed.err
    ran = run("plan", "--db", url, "--sql", "SELECT * FROM vessel", "--analyze")
    refused(ran, "vessel", "denied")
    # PostgreSQL lets owners build indexes only; MariaDB's scratch schemas need the right to make
    # one.
    index = run(
        "trial",
        "--db",
        url,
        "--index",
        "CREATE INDEX n ON berth (name)",
        "--sql",
        "SELECT * FROM berth",
    )
    refused(index, "request the privilege")
    refused(
        run(
            "trial",
            "--db",
            url,
            "--index",
            "CREATE INDEX n ON vessel (name)",
            "--sql",
            "SELECT * FROM vessel",
        ),
        "denied",
    )


def test_a_server_that_is_away(tmp_path: Path) -> None:
    port = servers.free_port()
    for system in ("postgresql", "mariadb", "mysql"):
        ran = run(
            "tables",
            "--db",
            f"{system}://harbour:{SECRET}@127.0.0.1:{port}/harbour",
            env={"HOME": str(tmp_path)},
        )
        refused(ran, "refuse", "is it running and reachable")
        assert SECRET not in ran.err


def test_urls_as_applications_write_them(served: Office) -> None:
    place = served.url.partition("://")[2]
    for driver in {"postgresql": ["postgres", "postgresql+psycopg2", "postgresql+asyncpg"], "mariadb": ["mysql", "mysql+mysqldb"]}[served.system]:  # fmt: skip
        assert tables(f"{driver}://{place}").code == 0, driver
    refused(tables(f"{served.system}://{place.rpartition('/')[0]}"), "does not name a database")
    refused(tables(served.url + "_gone"), "_gone", "check --db")
    refused(tables("oracle://scott@127.0.0.1/x"), "oracle databases are not supported")


def test_a_missing_driver_is_named(served: Office, tmp_path: Path) -> None:
    driver = {"postgresql": "psycopg", "mariadb": "pymysql"}[served.system]
    (tmp_path / f"{driver}.py").write_text(
        f"raise ModuleNotFoundError('no {driver}', name='{driver}')"
    )
    ran = program("tables", "--db", served.url, env={"PYTHONPATH": str(tmp_path)})
    refused(ran, f"the driver {driver} is not installed", f"pip install 'ask-less[{driver}]'")


def test_a_connection_can_read_only_and_leaves_nothing_open(served: Office) -> None:
    before = served.state()
    with connect(parse_url(served.url)) as connection:
        schema = reflect(connection)
        assert isinstance(schema, Schema) and schema.table("VESSEL") is not None
        with pytest.raises(Exception, match=r"(?i)read.only"):
            connection.exec_driver_sql("DELETE FROM clearance")
    assert served.state() == before
    assert served.ask("SELECT count(*) FROM clearance")[0][0] == 200
