"""PostgreSQL's protocol, read: any split of the bytes tells the same, garbage is named, what must
not be recorded is not.
"""

from __future__ import annotations

from struct import pack

import pytest
from hypothesis import given, strategies as st

from askless.core.records.traffic import QuerySeen
from askless.sources.wire import Unreadable, load
from askless.sources.wire.postgresql.session import Session
from tests.wire.conversations import Postgres as P, Turn, told_by

INT, TEXT, UUID, NUMERIC, STAMP = 23, 25, 2950, 1700, 1114
BERTHS = P.columns(("id", INT), ("name", TEXT))


def told(turns: list[Turn], pieces: list[int] | None = None) -> list[QuerySeen]:
    """The queries of a conversation, on a connection whose server is ready."""
    session = Session(4, {"user": "harbour"})
    session.server(P.ready(), 0)
    return told_by(session, turns, pieces)


SIMPLE: list[Turn] = [
    ("client", P.query("SELECT id, name FROM berth; UPDATE berth SET name = 'a;b'; BEGIN")),
    ("server", BERTHS + P.row(b"1", b"North") + P.row(b"2", None) + P.done("SELECT 2")),
    ("server", P.done("UPDATE 7") + P.done("BEGIN") + P.ready("T")),
    ("client", P.query("SELECT nonsense")),
    ("server", P.error("42703", "no such column") + P.ready("E")),
    ("client", P.query("ROLLBACK")),
    ("server", P.done("ROLLBACK") + P.ready()),
]
EXTENDED: list[Turn] = [
    (
        "client",
        P.parse("s1", "SELECT id, name FROM berth WHERE id = $1", INT)
        + P.describe("S", "s1")
        + P.sync(),
    ),
    ("server", P.message("1") + P.message("t", pack(">hI", 1, INT)) + BERTHS + P.ready()),
    ("client", P.bind("s1", [b"\0\0\0\7"], form=1, result=1) + P.execute() + P.sync()),
    ("server", P.message("2") + P.row(b"\0\0\0\7", b"South") + P.done("SELECT 1") + P.ready()),
    # Sent ahead: the second fails, the third is passed over, the fourth comes after the Sync.
    (
        "client",
        P.bind("s1", [b"\0\0\0\1"], form=1, result=1)
        + P.execute()
        + P.parse("", "SELECT 1/$1", INT),
    ),
    (
        "client",
        P.bind("", [b"0"])
        + P.execute()
        + P.bind("s1", [b"\0\0\0\2"], form=1)
        + P.execute()
        + P.sync(),
    ),
    ("client", P.bind("s1", [None], form=1) + P.execute() + P.sync()),
    (
        "server",
        P.message("2")
        + P.done("SELECT 0")
        + P.message("1")
        + P.message("2")
        + P.error("22012", "by zero"),
    ),
    ("server", P.ready() + P.message("2") + P.done("SELECT 0") + P.ready()),
]
IN_PORTIONS: list[Turn] = [
    ("client", P.query("BEGIN")),
    ("server", P.done("BEGIN") + P.ready("T")),
    (
        "client",
        P.parse("", "SELECT id, name FROM berth")
        + P.bind("", [], "c")
        + P.describe("P", "c")
        + P.execute("c", 2)
        + P.sync(),
    ),
    (
        "server",
        P.message("1")
        + P.message("2")
        + BERTHS
        + P.row(b"1", b"a")
        + P.row(b"2", b"b")
        + P.message("s")
        + P.ready("T"),
    ),
    ("client", P.execute("c", 2) + P.sync()),
    ("server", P.row(b"3", b"c") + P.done("SELECT 1") + P.ready("T")),
    (
        "client",
        P.parse("", "SELECT id, name FROM tug")
        + P.bind("", [], "d")
        + P.describe("P", "d")
        + P.execute("d", 1)
        + P.sync(),
    ),
    (
        "server",
        P.message("1")
        + P.message("2")
        + BERTHS
        + P.row(b"9", b"a")
        + P.message("s")
        + P.ready("T"),
    ),
    ("client", P.query("COMMIT")),
    ("server", P.done("COMMIT") + P.ready()),
]
COPY: list[Turn] = [
    ("client", P.query("COPY berth TO STDOUT")),
    (
        "server",
        P.message("H", pack(">bh", 0, 0))
        + P.message("d", b"1\tNorth\n")
        + P.message("c")
        + P.done("COPY 1")
        + P.ready(),
    ),
    ("client", P.query("COPY berth FROM STDIN")),
    ("server", P.message("G", pack(">bh", 0, 0))),
    ("client", P.message("d", b"2\tSouth\n") * 3 + P.message("c")),
    ("server", P.done("COPY 3") + P.ready()),
    ("client", P.message("F", pack(">Ihhh", 99, 0, 0, 0))),
    (
        "server",
        P.message("V", pack(">i", -1))
        + P.message("N", b"\0")
        + P.message("A", pack(">i", 1) + b"a\0b\0")
        + P.ready(),
    ),
    ("client", P.query("") + P.query("SELECT 2")),
    (
        "server",
        P.message("I")
        + P.ready()
        + P.columns(("?column?", INT))
        + P.row(b"2")
        + P.done("SELECT 1")
        + P.ready(),
    ),
]


def test_simple_queries() -> None:
    listed, update, begin, failed, rollback = told(SIMPLE)
    assert (listed.text, listed.rows, listed.columns) == (
        "SELECT id, name FROM berth",
        2,
        ("id", "name"),
    )
    assert listed.sample == ((1, "North"), (2, None)) and listed.bytes == 4 + 1 + 4 + 5 + 4 + 1 + 4
    assert (
        listed.widths == (10, 9)
        and listed.start_ns == 1_000_000
        and listed.duration_ns == 1_000_000
    )
    assert (update.text, update.rows) == ("UPDATE berth SET name = 'a;b'", 7)
    assert [begin.in_transaction, failed.in_transaction, rollback.in_transaction] == [
        False,
        True,
        True,
    ]
    assert failed.error == "42703 no such column" and not rollback.error


def test_prepared_binary_and_pipelined() -> None:
    first, empty, failed, null = told(EXTENDED)
    assert first.parameters == (7,) and first.sample == ((7, "South"),) and first.connection == 4
    assert empty.parameters == (1,) and empty.rows == 0 and not empty.error
    assert (
        failed.error == "22012 by zero"
        and failed.text == "SELECT 1/$1"
        and failed.parameters == (0,)
    )
    assert null.parameters == (None,) and not null.error


def test_a_portal_read_in_portions_is_one_query() -> None:
    _, listed, cut_short, commit = told(IN_PORTIONS)
    assert (
        listed.rows == 3
        and listed.sample == ((1, "a"), (2, "b"), (3, "c"))
        and listed.duration_ns == 2_000_000
    )
    assert commit.text == "SELECT id, name FROM tug" and commit.rows == 1, (
        "a portal ends with its transaction"
    )
    assert cut_short.text == "COMMIT"


def test_a_portal_ends_with_what_it_was_asked_in() -> None:
    """Outside of a transaction that is the Sync, whether or not all rows were asked for."""
    turns: list[Turn] = [
        (
            "client",
            P.parse("", "SELECT id, name FROM berth")
            + P.bind("", [], "c")
            + P.execute("c", 1)
            + P.sync(),
        ),
        (
            "server",
            P.message("1") + P.message("2") + P.row(b"1", b"a") + P.message("s") + P.ready(),
        ),
        ("client", P.query("SELECT 2")),
        ("server", P.columns(("?", INT)) + P.row(b"2") + P.done("SELECT 1") + P.ready()),
    ]
    assert [(query.text, query.rows) for query in told(turns)] == [
        ("SELECT id, name FROM berth", 1),
        ("SELECT 2", 1),
    ]


def test_what_is_sent_after_an_error_is_passed_over_until_the_sync() -> None:
    turns: list[Turn] = [
        ("client", P.parse("s", "SELECT 1") + P.sync()),
        ("server", P.message("1") + P.ready()),
        ("client", P.parse("", "SELECT nonsense") + P.message("H")),
        ("server", P.error("42703", "no such column")),
        ("client", P.parse("s", "SELECT 'never known'") + P.bind("s", []) + P.execute() + P.sync()),
        ("client", P.bind("s", []) + P.execute() + P.sync()),
        ("server", P.ready() + P.message("2") + P.row(b"1") + P.done("SELECT 1") + P.ready()),
    ]
    failed, answered = told(turns)
    assert failed.error.startswith("42703") and (answered.text, answered.rows) == ("SELECT 1", 1)


def test_each_value_has_its_form() -> None:
    values = pack(">h", 2) + pack(">i", 4) + pack(">i", 7) + pack(">i", 2) + b"12"
    bind = P.message("B", b"\0\0" + pack(">hhh", 2, 1, 0) + values + pack(">hhh", 2, 0, 1))
    said = P.parse("", "SELECT $1, $2", INT, INT) + bind + P.describe("P") + P.execute() + P.sync()
    columns = P.columns(("a", INT), ("b", INT))
    answer = (
        P.message("1")
        + P.message("2")
        + columns
        + P.row(b"7", pack(">i", 12))
        + P.done("SELECT 1")
        + P.ready()
    )
    (query,) = told([("client", said), ("server", answer)])
    assert query.parameters == (7, 12) and query.sample == ((7, 12),)


def test_copies_calls_and_notices() -> None:
    out, into, answer = told(COPY)
    assert (out.rows, out.bytes, into.rows, answer.text) == (1, 8, 3, "SELECT 2")


@pytest.mark.parametrize(
    "turns", [SIMPLE, EXTENDED, IN_PORTIONS, COPY], ids=["simple", "extended", "portions", "copy"]
)
@given(pieces=st.lists(st.integers(1, 40), min_size=1, max_size=12))
def test_any_split_tells_the_same(turns: list[Turn], pieces: list[int]) -> None:
    assert told(turns, pieces) == told(turns)


@given(st.binary(min_size=6, max_size=200), st.sampled_from(["client", "server"]))
def test_garbage_is_named_or_waits(garbage: bytes, side: str) -> None:
    try:
        told([("client", P.query("SELECT 1")), (side, garbage)])
    except Unreadable as error:
        assert error.offset >= 0 and error.why


def test_garbage_names_its_offset() -> None:
    with pytest.raises(Unreadable, match=f"not a server message at byte {2 * len(P.ready())}"):
        told([("server", P.ready() + b"\xff" * 20)])
    with pytest.raises(Unreadable, match="an invalid client message 'B'"):
        told([("client", P.message("B", b"\0\0\0\x7f"))])


def test_more_parameters_than_a_signed_number_counts() -> None:
    count = 40_000
    described = P.message("t", pack(">H", count) + pack(">I", INT) * count)
    said = P.message("P", b"big\0SELECT 1\0" + pack(">H", 0)) + P.describe("S", "big") + P.sync()
    bound = P.message(
        "B",
        b"\0big\0"
        + pack(">H", 0)
        + pack(">H", count)
        + (pack(">i", 1) + b"7") * count
        + pack(">H", 0),
    )
    turns: list[Turn] = [
        ("client", said),
        ("server", P.message("1") + described + P.message("n") + P.ready()),
    ]
    turns += [
        ("client", bound + P.execute() + P.sync()),
        ("server", P.message("2") + P.done("SELECT 0") + P.ready()),
    ]
    (query,) = told(turns)
    assert len(query.parameters) == count and set(query.parameters) == {7}


def test_after_a_loss_it_goes_on_at_the_next_border() -> None:
    session = Session(1, {})
    session.client(P.query("SELECT 1")[:7], 1)
    session.lost()
    assert (
        session.client(b"\x01\x02\x03garbage", 2) == []
        and session.server(b"half a row" + P.ready("T"), 3) == []
    )
    session.client(P.query("SELECT id, name FROM berth"), 4)
    (seen,) = session.server(BERTHS + P.done("SELECT 0") + P.ready("T"), 5)
    assert seen.query.text == "SELECT id, name FROM berth" and seen.query.in_transaction


def test_values_of_both_forms() -> None:
    stamp = pack(">q", 86_400_000_000 + 1_500_000)
    numeric = pack(">hhHH", 2, 0, 0, 2) + pack(">hh", 12, 3400)
    array = pack(">iiI", 1, 0, INT) + pack(">ii", 2, 1) + pack(">ii", 4, 5) + pack(">ii", 4, 6)
    uuid = bytes(range(16))
    types = (INT, STAMP, NUMERIC, 1007, UUID, TEXT, 16, 701)
    binary = [
        pack(">i", -3),
        stamp,
        numeric,
        array,
        uuid,
        "Sønder".encode(),
        b"\1",
        pack(">d", 1.5),
    ]
    textual = [
        b"-3",
        b"2000-01-02 00:00:01.5",
        b"12.34",
        b"{5,6}",
        b"00010203-0405-0607-0809-0a0b0c0d0e0f",
    ]
    textual += ["Sønder".encode(), b"t", b"1.5"]
    answer = ("server", P.message("1") + P.message("2") + P.done("SELECT 0") + P.ready())
    results = []
    for form, values in ((1, binary), (0, textual)):
        said = (
            P.parse("", "SELECT 1", *types)
            + P.bind("", list(values), form=form)
            + P.execute()
            + P.sync()
        )
        (query,) = told([("client", said), answer])
        results.append(query.parameters)
    assert results[0][1] == ("datetime", "2000-01-02 00:00:01.500000") and results[1][1] == (
        "datetime",
        "2000-01-02 00:00:01.5",
    )
    assert [p for i, p in enumerate(results[0]) if i != 1] == [
        p for i, p in enumerate(results[1]) if i != 1
    ]
    assert results[0][2:] == (
        ("Decimal", "12.34"), ("list", "[5, 6]"), ("UUID", "00010203-0405-0607-0809-0a0b0c0d0e0f"), "Sønder", True, 1.5,
    )  # fmt: skip


def test_the_beginning_is_passed_on_and_not_kept() -> None:
    wire = load("postgresql")
    opening = wire.opening(False)
    assert opening.client(pack(">ii", 8, 80877103)).to_client == b"N"
    start = P.startup(
        user="harbour", database="office", application_name="tide", options="-c secret=1"
    )
    assert opening.client(start[:9]) == (b"", b"") and opening.client(start[9:]).to_server == start
    challenge = P.message("R", pack(">i", 10) + b"SCRAM-SHA-256\0\0")
    assert opening.server(challenge).to_client == challenge
    password = P.message("p", b"the password")
    assert (
        opening.client(password[:6]) == (b"", b"")
        and opening.client(password[6:] + P.query("SELECT 1")).to_server
    )
    let_in = (
        P.message("R", pack(">i", 0))
        + P.setting("application_name", "gauge")
        + P.message("K", b"secretkey")
        + P.ready()
    )
    assert opening.server(let_in).to_client == let_in and opening.state == "open"
    assert (
        opening.early[0] == P.query("SELECT 1") and b"password" not in repr(opening.facts).encode()
    )
    assert opening.facts == {"user": "harbour", "database": "office", "application_name": "tide"}
    session = wire.session(1, opening.facts)
    session.client(opening.early[0], 1)
    (seen,) = session.server(
        opening.early[1] + P.columns(("?", INT)) + P.done("SELECT 0") + P.ready(), 2
    )
    assert seen.application == "gauge" and seen.query.text == "SELECT 1"


@pytest.mark.parametrize(
    "first, state, why",
    [
        (pack(">iiii", 16, 80877102, 1, 2), "unread", "cancel"),
        (P.startup(user="h", replication="database"), "unread", "replication"),
        (P.startup(version=0x20000, user="h"), "unread", "version 2.0"),
        (b"GET / HTTP/1.1\r\n", "refused", "does not use"),
        (b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc", "refused", "--tls-cert"),
    ],
)
def test_what_is_not_read_is_passed_on(first: bytes, state: str, why: str) -> None:
    opening = load("postgresql").opening(False)
    step = opening.client(first)
    assert opening.state == state and why in opening.why
    assert step.to_server == first if state == "unread" else step.to_client[:1] == b"E"


def test_tls_is_answered_as_it_is_served() -> None:
    opening = load("postgresql").opening(True)
    assert opening.client(pack(">ii", 8, 80877104)).to_client == b"N", "encryption by GSSAPI is not"
    assert opening.client(pack(">ii", 8, 80877103)).to_client == b"S" and opening.state == "tls"
