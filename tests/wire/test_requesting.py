"""What a request is on the wire: by comments, names, connections and pauses; and by the times of
visits.
"""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given, strategies as st

from askless.core.records.model import CallSite, Request
from askless.core.records.request_builder import LiveRequestBuilder
from askless.core.records.traffic import QuerySeen
from askless.sources.attribution.boundaries import RequestBoundaries, Window, WindowGrouper
from askless.sources.attribution.comments import Tags, strip_tags
from askless.sources.attribution.request_facts import UNCLAIMED, RequestAttribution, RequestHints
from askless.sources.attribution.route_templates import route_of
from askless.sources.wire import CompletedQuery

MS = 1_000_000
# connection, text, start in ms, whether a transaction is open after it
Asked = tuple[int, str, float, bool]
TRACE = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"


def requests_of(
    asked: list[Asked],
    way: str = "auto",
    closed: bool = False,
    names: dict[int, list[str]] | None = None,
) -> tuple[list[Request], list[str]]:
    """The requests of some queries of half a millisecond each, and what was said of them."""
    live: list[Request] = []
    notes: list[str] = []
    requests = RequestBoundaries(
        RequestAttribution(LiveRequestBuilder("postgresql", live.append)),
        "postgresql",
        way,
        100,
        notes.append,
    )
    last: dict[int, float] = {}
    opened: set[int] = set()
    for place, (number, text, at_ms, inside) in enumerate(asked):
        if number not in opened:
            requests.opened(number, {"user": "harbour"}, int(at_ms * MS))
            opened.add(number)
        told = (names or {}).get(number, [])
        name = told[min(sum(a[0] == number for a in asked[:place]), len(told) - 1)] if told else ""
        requests.seen(
            number,
            CompletedQuery(
                QuerySeen(text, int(at_ms * MS), MS // 2, connection=number), name, inside
            ),
        )
        last[number] = at_ms
        if closed and not any(later[0] == number for later in asked[place + 1 :]):
            requests.closed(number, int(at_ms * MS) + MS)
    requests.close()
    return sorted(live, key=lambda request: request.start_ns), notes


def asked_of(request: Request) -> list[str]:
    return [request.text(i) for i in range(len(request))]


def test_pauses_part_requests_and_transactions_hold_them_together() -> None:
    found, (note,) = requests_of(
        [
            (1, "SELECT id FROM berth", 0, False), (1, "SELECT id FROM tug", 5, False),
            (1, "BEGIN", 400, True), (1, "SELECT id FROM vessel FOR UPDATE", 401, True),
            (1, "UPDATE vessel SET name = 'x'", 900, True), (1, "COMMIT", 1500, False),
            (1, "SELECT id FROM pilot", 1505, False), (1, "SELECT 1", 5000, False),
        ]
    )  # fmt: skip
    assert [asked_of(request) for request in found] == [
        ["SELECT id FROM berth", "SELECT id FROM tug"],
        [
            "BEGIN",
            "SELECT id FROM vessel FOR UPDATE",
            "UPDATE vessel SET name = 'x'",
            "COMMIT",
            "SELECT id FROM pilot",
        ],
        ["SELECT 1"],
    ]
    assert [request.route for request in found] == ["berth, tug", "vessel, pilot", UNCLAIMED]
    assert {request.kind for request in found[:2]} == {
        "paused"
    } and "grouped into requests by pauses" in note


def test_short_connections_are_requests() -> None:
    asked = [
        (n, f"SELECT id FROM {table}", 100 * n + at, False)
        for n in range(1, 5)
        for at, table in ((0, "berth"), (80, "tug"))
    ]
    slow = (5, "SELECT id FROM pilot", 900, False), (5, "SELECT id FROM vessel", 2900, False)
    found, (note,) = requests_of([*asked, *slow], closed=True)
    assert (
        len(found) == 5
        and {request.kind for request in found} == {"connection"}
        and "by connections" in note
    )
    assert asked_of(found[4]) == ["SELECT id FROM pilot", "SELECT id FROM vessel"], (
        "a pause does not part them"
    )


def test_a_pool_of_connections_is_no_request_each() -> None:
    asked = [(n % 4 + 1, "SELECT id FROM berth", n * 500, False) for n in range(12)]
    found, (note,) = requests_of(asked, closed=True)
    assert len(found) == 12 and "by pauses" in note


def test_comments_name_requests_and_lines_of_code() -> None:
    def tagged(text: str, action: str, trace: str = "") -> str:
        more = f",traceparent='{trace}'" if trace else ""
        return f"{text} /*action='{action}',controller='calls',framework='tide%2F7.1'{more}*/"

    other = TRACE.replace("0af7", "0af8")
    found, (note,) = requests_of(
        [
            (1, "BEGIN", 0, True), (1, tagged("SELECT id FROM berth", "due", TRACE), 1, True), (2, tagged("SELECT id FROM tug", "due", TRACE), 2, False),
            (2, tagged("SELECT id FROM pilot", "show", other), 3, False), (1, "COMMIT", 500, False), (1, tagged("SELECT id FROM tariff", "show", other), 501, False),
        ]
    )  # fmt: skip
    assert [(request.route, sorted(asked_of(request))) for request in found] == [
        ("calls/due", ["BEGIN", "COMMIT", "SELECT id FROM berth", "SELECT id FROM tug"]),
        ("calls/show", ["SELECT id FROM pilot", "SELECT id FROM tariff"]),
    ]
    assert "by the comments of statements" in note
    berth = asked_of(found[0]).index("SELECT id FROM berth")
    assert (
        found[0].place(berth) == CallSite("calls", 0, "due")
        and str(found[0].place(berth)) == "calls"
    )
    # Without a trace, the same action again after a pause is another request, and another action is
    # at once.
    plain = [
        (1, tagged("SELECT id FROM berth", action), at, False)
        for action, at in (("due", 0), ("due", 1), ("show", 2), ("due", 3), ("due", 500))
    ]
    assert [len(request) for request in requests_of(plain)[0]] == [2, 1, 1, 1]


def test_only_a_trace_is_shared_by_connections_and_outlasts_pauses() -> None:
    """Whatever length it has; and a route of a trace's length is none."""
    long_route = "harbour/calls/that-are-due-to-be"
    assert len(long_route) == 32
    asked = [
        (1, f"SELECT id FROM berth /*request_id='{number}',route='due'*/", at, False)
        for number, at in (("kdq12", 0), ("kdq12", 900))
    ]
    asked.insert(1, (2, "SELECT id FROM tug /*request_id='kdq12',route='due'*/", 10, False))
    assert [len(request) for request in requests_of(asked)[0]] == [3]
    routed = [(1, f"SELECT id FROM berth /*route='{long_route}'*/", at, False) for at in (0, 900)]
    assert [len(request) for request in requests_of(routed)[0]] == [1, 1]


def test_queries_stand_in_the_order_of_their_starts() -> None:
    live: list[Request] = []
    grouping = RequestAttribution(LiveRequestBuilder("postgresql", live.append))
    for text, start in (("second", 20), ("first", 10), ("third", 30)):  # told as they end
        grouping.query(RequestHints(1, "trace"), QuerySeen(f"SELECT '{text}'", start, 100 - start))
    grouping.end("trace", 200)
    assert [live[0].literals[i] or live[0].statement(i).parts[1::2] for i in range(3)] == [
        ("'first'",),
        ("'second'",),
        ("'third'",),
    ]


def test_names_that_sessions_take_are_requests() -> None:
    names = {1: ["tide", "tide: due", "tide: due", "tide: show", "tide: show"]}
    asked = [
        (1, f"SELECT id FROM {table}", at, False)
        for at, table in enumerate(("port", "berth", "tug", "berth", "pilot"))
    ]
    found, (note,) = requests_of(asked, names=names)
    assert [(request.route, len(request)) for request in found] == [
        ("tide", 1),
        ("tide: due", 2),
        ("tide: show", 2),
    ]
    assert "by the application name" in note


@given(
    st.lists(st.tuples(st.integers(1, 3), st.sampled_from(["SELECT id FROM berth", "BEGIN", "COMMIT", "SELECT 1"]), st.floats(0, 300), st.booleans()), max_size=30),
    st.sampled_from(["auto", "comment", "application", "connection", "pause"]),
)  # fmt: skip
def test_every_query_is_in_one_request_and_no_transaction_is_cut(
    steps: list[Asked], way: str
) -> None:
    at_ms, asked = 0.0, []
    for number, text, gap_ms, inside in steps:
        at_ms += gap_ms + 1
        asked.append((number, f"{text} /* {len(asked)} */", at_ms, inside))
    found, _ = requests_of(asked, way)
    assert sorted(text for request in found for text in asked_of(request)) == sorted(
        text for _, text, _, _ in asked
    )
    where = {text: request.number for request in found for text in asked_of(request)}
    for number in (1, 2, 3):
        mine = [(text, inside) for n, text, _, inside in asked if n == number]
        for (text, inside), (following, _) in itertools.pairwise(mine):
            if inside and "FROM" in text and way != "comment":
                assert where[text] == where[following]


def test_visits_take_what_began_in_them() -> None:
    live: list[Request] = []
    visited = WindowGrouper(RequestAttribution(LiveRequestBuilder("postgresql", live.append)))

    def ask(text: str, at_ms: float, inside: bool = False, number: int = 1) -> None:
        visited.seen(
            number,
            CompletedQuery(QuerySeen(text, int(at_ms * MS), MS, connection=number), "", inside),
        )

    ask("SELECT 'start'", 5)
    ask("BEGIN", 11, True)
    ask("SELECT 'page'", 12, True)
    ask("COMMIT", 21)  # after the page has answered
    ask("SELECT 'behind it'", 24)
    ask("SELECT 'next'", 31, number=2)
    visited.window(Window("GET /a", 10 * MS, 20 * MS, 200, True))
    visited.window(Window("GET /b", 30 * MS, 40 * MS, 404))
    ask("SELECT 'end'", 50)
    visited.close()
    assert {request.route: asked_of(request) for request in live} == {
        "GET /a": ["BEGIN", "SELECT 'page'", "COMMIT"], "GET /b": ["SELECT 'next'"],
        UNCLAIMED: ["SELECT 'start'", "SELECT 'behind it'", "SELECT 'end'"],
    }  # fmt: skip
    assert [
        (request.status, request.warm_up) for request in live if request.route != UNCLAIMED
    ] == [
        (200, True),
        (404, False),
    ]


@pytest.mark.parametrize(
    "text, bare, tags",
    [
        ("SELECT 1 /*route='%5Ecalls%2Fdue%24'*/", "SELECT 1", Tags("", "calls/due", None)),
        ("SELECT 1 /*controller:calls,action:due,line:app/calls.rb:12:in `due'*/;", "SELECT 1", Tags("", "calls/due", CallSite("app/calls.rb", 12, "due"))),
        ("/* file='src%2Fcalls.js',lineno='7',function='due' */ SELECT 1", "SELECT 1", Tags("", "", CallSite("src/calls.js", 7, "due"))),
        (f"SELECT 1 /*traceparent='{TRACE}',tracestate='a%3Db'*/", "SELECT 1", Tags("0af7651916cd43dd8448eb211c80319c", "", None)),
        ("SELECT 1 /* http.method='GET',http.route='/due' */", "SELECT 1", Tags("", "GET /due", None)),
        ("SELECT /*+ INDEX(berth) */ 1", None, None),
        ("SELECT 1 /* the berths: all of them */", None, None),
        ("SELECT '/*controller:x*/'", None, None),
        ("SELECT 1 /*note='nothing known'*/", None, None),
        ("SELECT 2 */", None, None),
    ],
)  # fmt: skip
def test_tags(text: str, bare: str | None, tags: Tags | None) -> None:
    assert strip_tags(text) == (text if bare is None else bare, tags)


@given(st.text(max_size=60))
def test_any_comment_is_read_or_left(text: str) -> None:
    bare, tags = strip_tags(f"SELECT 1 /*{text}*/")
    assert bare == "SELECT 1" if tags is not None else bare == f"SELECT 1 /*{text}*/"


def test_routes_from_paths() -> None:
    assert route_of("GET", "/calls/17") == "GET /calls/{id}" and route_of("GET", "") == "GET /"
    assert route_of("POST", "/vessels/H00042.json") == "POST /vessels/{id}.json"
