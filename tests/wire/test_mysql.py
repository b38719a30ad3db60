"""MySQL's protocol, read: both ends of definitions, prepared statements, cursors, several results,
files, and garbage.
"""

from __future__ import annotations

from pathlib import Path
from struct import pack

import pytest
from hypothesis import given, strategies as st

from askless.capture.writing import CaptureWriter
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from askless.sources.wire import Unreadable, load
from askless.sources.wire.mysql import packets
from askless.sources.wire.mysql.session import Session
from tests.conftest import findings
from tests.wire.conversations import MySql as M, Turn, told_by

LONG, VARCHAR = 3, 253
OLD = packets.PROTOCOL_41 | packets.SECURE | packets.PLUGIN_AUTH
MODERN = OLD | packets.DEPRECATE_EOF
COLUMNS = [("id", LONG), ("name", VARCHAR)]


def told(
    turns: list[Turn], capabilities: int = OLD, pieces: list[int] | None = None
) -> list[QuerySeen]:
    return told_by(
        Session(3, {"capabilities": capabilities, "version": "8.4", "charset": 45}), turns, pieces
    )


def texts(modern: bool) -> list[Turn]:
    return [
        ("client", M.query("SELECT id, name FROM berth")),
        ("server", M.result(COLUMNS, [[1, "North"], [2, None]], modern=modern)),
        ("client", M.query("UPDATE berth SET name = 'a;b'; SELECT id, name FROM berth")),
        (
            "server",
            M.ok(1, changed=5, status=2 | 8)
            + M.result(COLUMNS, [[3, "x"]], status=3, modern=modern),
        ),
        ("client", M.query("SELECT nonsense")),
        ("server", M.error(1, 1054, "Unknown column 'nonsense'")),
        ("client", M.packet(0, b"\x0e") + M.packet(0, b"\x02office") + M.query("CALL tides()")),
        (
            "server",
            M.ok(1)
            + M.ok(1, status=3)
            + M.result(COLUMNS, [[1, "a"]], status=3 | 8, modern=modern),
        ),
        ("server", M.result(COLUMNS, [[2, "b"]], status=3 | 8, modern=modern) + M.ok(9, status=3)),
        ("client", M.query("COMMIT") + M.packet(0, b"\x01")),
        ("server", M.ok(1, status=2)),
    ]


def prepared(modern: bool) -> list[Turn]:
    def ends(number: int) -> bytes:
        return b"" if modern else M.eof(number)

    one = M.column(2, "?", VARCHAR)
    outputs = M.column(4, "id", LONG) + M.column(5, "name", VARCHAR)
    execute = b"\x17" + pack("<IBI", 1, 0, 1) + b"\0" + b"\x01" + pack("<H", LONG) + pack("<i", 7)
    again = b"\x17" + pack("<IBI", 1, 0, 1) + b"\0" + b"\0" + pack("<i", 8)
    opened = b"\x17" + pack("<IBI", 1, 1, 1) + b"\x01" + b"\x01" + pack("<H", LONG)
    row = M.packet(5, b"\0\0" + pack("<i", 7) + M.text("South"))
    last = M.ok(6, head=0xFE) if modern else M.eof(6)
    head = M.packet(1, b"\x02") + M.column(2, "id", LONG) + M.column(3, "name", VARCHAR)
    cursor = 2 | 0x40
    return [
        ("client", M.packet(0, b"\x16SELECT id, name FROM berth WHERE id = ?")),
        (
            "server",
            M.packet(1, b"\0" + pack("<IHHBH", 1, 2, 1, 0, 0)) + one + ends(3) + outputs + ends(6),
        ),
        ("client", M.packet(0, execute)),
        ("server", head + ends(4) + row + last),
        ("client", M.packet(0, again)),
        ("server", head + ends(4) + last),
        ("client", M.packet(0, opened)),
        ("server", head + (M.ok(4, status=cursor, head=0xFE) if modern else M.eof(4, cursor))),
        ("client", M.packet(0, b"\x1c" + pack("<II", 1, 2))),
        ("server", row + (M.ok(6, status=cursor, head=0xFE) if modern else M.eof(6, cursor))),
        ("client", M.packet(0, b"\x1c" + pack("<II", 1, 2))),
        ("server", row + (M.ok(6, status=2 | 0x80, head=0xFE) if modern else M.eof(6, 2 | 0x80))),
        (
            "client",
            M.packet(0, b"\x19" + pack("<I", 1))
            + M.query("LOAD DATA LOCAL INFILE 'x' INTO TABLE berth"),
        ),
        ("server", M.packet(1, b"\xfbx")),
        ("client", M.packet(2, b"1,North\n") + M.packet(3, b"")),
        ("server", M.ok(4, changed=1)),
    ]


@pytest.mark.parametrize("modern", [False, True], ids=["ends", "no ends"])
def test_texts(modern: bool) -> None:
    listed, update, second, failed, call, commit = told(texts(modern), MODERN if modern else OLD)
    assert listed.origins == ("berth.id", "berth.name")
    assert (listed.rows, listed.columns, listed.sample) == (
        2,
        ("id", "name"),
        ((1, "North"), (2, None)),
    )
    assert listed.bytes == (2 + 6) + (2 + 1) + 2 * 2 * 3 and listed.widths == (10, 9)
    assert (update.text, update.rows) == ("UPDATE berth SET name = 'a;b'", 5) and second.rows == 1
    assert failed.error == "1054 Unknown column 'nonsense'" and failed.in_transaction
    assert (call.text, call.rows) == ("CALL tides()", 2), "all results of a procedure are its own"
    assert commit.in_transaction and commit.text == "COMMIT"


@pytest.mark.parametrize("modern", [False, True], ids=["ends", "no ends"])
def test_prepared_cursors_and_files(modern: bool) -> None:
    first, again, by_cursor, file = told(prepared(modern), MODERN if modern else OLD)
    assert first.parameters == (7,) and first.sample == ((7, "South"),)
    assert again.parameters == (8,) and again.rows == 0
    assert by_cursor.parameters == (None,) and by_cursor.rows == 2, "its FETCHes belong to it"
    assert file.rows == 1 and file.text.startswith("LOAD DATA")


@pytest.mark.parametrize("modern", [False, True], ids=["ends", "no ends"])
@given(pieces=st.lists(st.integers(1, 40), min_size=1, max_size=12))
def test_any_split_tells_the_same(modern: bool, pieces: list[int]) -> None:
    capabilities = MODERN if modern else OLD
    for turns in (texts(modern), prepared(modern)):
        assert told(turns, capabilities, pieces) == told(turns, capabilities)


@given(st.binary(min_size=5, max_size=200), st.sampled_from(["client", "server"]))
def test_garbage_is_named_or_waits(garbage: bytes, side: str) -> None:
    try:
        told([("client", M.query("SELECT 1")), (side, garbage)])
    except Unreadable as error:
        assert error.offset >= 0 and error.why


def test_a_long_statement_takes_several_packets() -> None:
    text = "SELECT '" + "x" * packets.LONGEST + "'"
    raw = b"\x03" + text.encode()
    said = M.packet(0, raw[: packets.LONGEST]) + M.packet(1, raw[packets.LONGEST :])
    (query,) = told([("client", said), ("server", M.ok(2))])
    assert query.text.startswith("SELECT 'xxx") and query.text.endswith("/* cut by askless */")


def test_attributes_of_a_query_are_passed_over() -> None:
    capabilities = OLD | packets.QUERY_ATTRIBUTES
    attributes = b"\x01\x01" + b"\0" + b"\x01" + pack("<H", 254) + M.text("trace") + M.text("7f")
    turns = [("client", M.packet(0, b"\x03" + attributes + b"SELECT 1")), ("server", M.ok(1))]
    turns += [("client", M.packet(0, b"\x03\0\x01SELECT 2")), ("server", M.ok(1))]
    assert [query.text for query in told(turns, capabilities)] == ["SELECT 1", "SELECT 2"]


def test_progress_of_mariadb_is_no_error() -> None:
    progress = M.packet(1, b"\xff\xff\xff\x01\x01\x01\0\0\0\x04test")
    (query,) = told(
        [("client", M.query("ALTER TABLE berth ADD x INT")), ("server", progress + M.ok(2))],
        OLD | packets.MARIADB_PROGRESS,
    )
    assert not query.error and query.text.startswith("ALTER")


def test_after_a_loss_it_goes_on_at_the_next_command() -> None:
    session = Session(1, {"capabilities": OLD})
    session.client(M.query("SELECT 1")[:7], 1)
    session.lost()
    assert (
        session.server(b"half a row", 2) == [] and session.client(b"more of a statement", 3) == []
    )
    session.client(M.query("SELECT 2"), 4)
    (seen,) = session.server(M.ok(1), 5)
    assert seen.query.text == "SELECT 2"


def test_the_beginning_is_passed_on_and_not_kept() -> None:
    opening = load("mysql").opening(False)
    offered = (
        MODERN
        | packets.SSL
        | packets.COMPRESS
        | packets.ZSTD
        | packets.CONNECT_ATTRS
        | packets.CONNECT_WITH_DB
        | 1
    )
    greeting = M.greeting(offered)
    passed = opening.server(greeting).to_client
    assert len(passed) == len(greeting) and passed == M.greeting(
        offered & ~(packets.SSL | packets.COMPRESS | packets.ZSTD)
    )
    asked = MODERN | packets.CONNECT_ATTRS | packets.CONNECT_WITH_DB | 1
    answer = M.answer(
        asked, "harbour", b"digest of the password", "office", {"_os": "x", "program_name": "tide"}
    )
    assert (
        opening.client(answer[:20]) == (b"", b"")
        and opening.client(answer[20:]).to_server == answer
    )
    more = M.packet(2, b"\xfecaching_sha2_password\0salt")
    assert opening.server(more).to_client == more
    assert opening.client(M.packet(3, b"the password\0")).to_server == M.packet(
        3, b"the password\0"
    )
    assert opening.server(M.packet(4, b"\x01\x03")).to_client and opening.state == "opening"
    assert opening.server(M.ok(5)).to_client == M.ok(5) and opening.state == "open"
    assert opening.facts["user"] == "harbour" and opening.facts["application_name"] == "tide"
    assert (
        opening.facts["database"] == "office"
        and opening.facts["capabilities"] & packets.DEPRECATE_EOF
    )
    assert "password" not in repr(opening.facts) and opening.early == (b"", b"")


def test_what_is_not_read_is_passed_on() -> None:
    opening = load("mariadb").opening(False)
    full = M.packet(0, b"\xff" + pack("<H", 1040) + b"Too many connections")
    assert opening.server(full).to_client == full and opening.state == "unread"
    opening = load("mysql").opening(False)
    opening.server(M.greeting(MODERN | 1))
    hello = M.packet(1, pack("<I", MODERN | packets.SSL) + bytes(28))
    assert opening.client(hello).to_server == hello and "TLS" in opening.why
    with pytest.raises(Unreadable, match="replication"):
        told([("client", M.packet(0, b"\x12" + bytes(10)))])


def test_a_change_of_user_is_no_command_and_no_answer() -> None:
    turns: list[Turn] = [
        ("client", M.packet(0, b"\x11other\0\x14" + bytes(20) + b"office\0")),
        ("server", M.packet(1, b"\xfemysql_native_password\0saltsaltsaltsaltsalt\0")),
        ("client", M.packet(2, b"digest of a password")),
        ("server", M.ok(3)),
        ("client", M.query("SELECT id, name FROM berth")),
        ("server", M.result(COLUMNS, [[1, "North"]])),
    ]
    (listed,) = told(turns)
    assert listed.rows == 1 and listed.text == "SELECT id, name FROM berth"


def test_keys_are_traced_to_the_table_that_the_server_names(made_relayed: Path) -> None:
    """SELECT * of a join: which table a column is of is in no text."""
    (finding,) = findings(made_relayed)
    assert finding["evidence"] == "traced" and "vessel.id" in " ".join(finding["evidence_details"])


@pytest.fixture
def made_relayed(tmp_path: Path) -> Path:
    writer = CaptureWriter(tmp_path / "made.jsonl", "test", "mysql")
    writer.request_began(RequestBegan(1, "GET /calls", 0))
    rows = tuple((700 + n, 40 + n, 9000 - 7 * n) for n in range(6))
    joined = QuerySeen(
        "SELECT * FROM port_call c JOIN vessel v ON v.id = c.vessel_id", 1000, 500, 6, columns=("id", "berth_id", "id"),
        origins=("port_call.id", "port_call.berth_id", "vessel.id"), sampled=(0, 1, 2), sample=rows,
    )  # fmt: skip
    asked = [
        QuerySeen(
            "SELECT reached FROM inspection WHERE vessel_id = ?",
            2000 + n,
            1,
            1,
            parameters=(row[2],),
        )
        for n, row in enumerate(rows)
    ]
    writer.queries(1, [joined, *asked])
    writer.request_ended(RequestEnded(1, 9000))
    writer.close()
    return tmp_path
