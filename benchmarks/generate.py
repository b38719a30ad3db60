"""Makes the capture that the analysis benchmark reads: many requests under way at a time, 300
shapes, half inlined.

The same queries are also written one plain JSON object a line, which is what the benchmark's floor
decodes.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path

import msgspec

from askless.capture.writing import CaptureWriter
from askless.core.records.model import CallSite
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded

SHAPES = 300
PAGES = 40
AT_A_TIME = 32  # requests under way at one time
TOGETHER_MOST = 64  # queries that are written in one line
TABLES = [
    "vessel",
    "port_call",
    "berth",
    "pilot",
    "tug",
    "tug_job",
    "manifest_line",
    "inspection",
    "tariff",
    "clearance",
]
PLACES = [
    CallSite(f"/app/pages_{number % 7}.py", 10 + number, f"page_{number}") for number in range(60)
]


class PlainQuery(msgspec.Struct):
    """One query as one plain JSON object."""

    request: int
    route: str
    text: str
    parameters: list[int | str]
    start_ns: int
    duration_ns: int
    rows: int
    bytes: int
    digest: int
    file: str
    line: int
    function: str
    connection: int
    sample: list[list[int | str]]


def _texts(dice: random.Random, shapes: int = SHAPES) -> list[tuple[str, bool]]:
    """Statements, every second one with its literals in the text (about 307 characters)."""
    texts = []
    for number in range(shapes):
        table = TABLES[number % len(TABLES)]
        columns = ", ".join(f"t.column_{number}_{i}" for i in range(6))
        if number % 2:
            text = f"SELECT t.id, {columns} FROM {table} AS t WHERE t.id = ?"
            texts.append((text, False))
        else:
            text = (
                f"SELECT t.id, {columns} FROM {table} AS t JOIN {TABLES[(number + 1) % 10]} AS o ON o.id = t.other_id "
                f"WHERE t.id = %d AND t.state = 'due' AND o.weight_kg > %d AND t.place LIKE 'Quay %d%%' "
                "AND t.remarks <> 'none given by the agent' ORDER BY t.id LIMIT 50"
            )
            texts.append((text, True))
    dice.shuffle(texts)
    return texts


class _Page:
    """A route with its own statements: most asked once a request, two of them row by row in some
    requests.
    """

    def __init__(self, number: int, dice: random.Random, shapes: int = SHAPES) -> None:
        self.route = f"GET /page/{number}/{{id}}"
        self.once = dice.sample(range(shapes), 23)
        self.looped = dice.sample(range(shapes), 2)

    def statements(self, dice: random.Random, count: int) -> list[int]:
        if dice.random() < 0.2:  # a fifth of the requests holds an n-plus-one
            loop = [dice.choice(self.looped)] * dice.randint(3, 13)
            return [*self.once[: count - len(loop)], *loop]
        return (self.once + self.looped)[:count]


def _request_rows(
    dice: random.Random, texts: list[tuple[str, bool]], numbers: list[int], clock: int
) -> list[QuerySeen]:
    rows = []
    for i, number in enumerate(numbers):
        text, inlined = texts[number]
        key = dice.randrange(1, 100_000)
        if inlined:
            text = text % (key, dice.randrange(100_000), dice.randrange(100))
        rows.append(
            QuerySeen(
                text=text,
                start_ns=clock + i * 90_000,
                duration_ns=dice.randrange(20_000, 400_000),
                rows=1,
                bytes=dice.randrange(40, 400),
                digest=dice.randrange(2**32),
                place=PLACES[number % 60],
                columns=("id", "value"),
                sampled=(0, 1),
                parameters=() if inlined else (key,),
                sample=((key, dice.randrange(1000)),),
            )
        )
    return rows


def _rounds(
    dice: random.Random, requests: int, each: int, shapes: int, routes: int
) -> Iterator[tuple[int, str, list[QuerySeen]]]:
    texts = _texts(dice, shapes)
    pages = [_Page(number, dice, shapes) for number in range(routes)]
    for number in range(1, requests + 1):
        page = dice.choice(pages)
        asked = page.statements(dice, each)
        while len(asked) < each:  # one giant request
            asked = asked + page.statements(dice, each)
        yield number, page.route, _request_rows(dice, texts, asked[:each], number * 3_000_000)


def write(
    folder: Path, requests: int, each: int, seed: int = 7, shapes: int = SHAPES, routes: int = PAGES
) -> tuple[Path, Path]:
    """Write the capture and its plain twin; returns both paths."""
    capture, plain = folder / "generated.jsonl", folder / "plain.jsonl"
    writer = CaptureWriter(capture, "benchmark", "sqlite", "generated")
    encode = msgspec.json.Encoder().encode
    open_requests: list[tuple[int, list[QuerySeen]]] = []
    with plain.open("wb") as twin:
        for number, route, rows in _rounds(random.Random(seed), requests, each, shapes, routes):
            writer.request_began(RequestBegan(number, route, rows[0].start_ns))
            open_requests.append((number, rows))
            for row in rows:
                twin.write(encode(_plain(number, route, row)) + b"\n")
            if len(open_requests) == AT_A_TIME or number == requests:
                _finish(writer, open_requests)
                open_requests = []
    writer.close()
    return capture, plain


def _finish(writer: CaptureWriter, open_requests: list[tuple[int, list[QuerySeen]]]) -> None:
    """Write the requests under way as the recorder does: most in one piece at their end, a fourth
    in two.
    """
    for half in (0, 1):
        for number, rows in open_requests:
            middle = len(rows) // 2 if number % 4 == 0 else 0
            part = rows[middle:] if half else rows[:middle]
            for start in range(0, len(part), TOGETHER_MOST):
                writer.queries(number, part[start : start + TOGETHER_MOST])
            if half:
                writer.request_ended(RequestEnded(number, rows[-1].start_ns + rows[-1].duration_ns))


def _plain(number: int, route: str, row: QuerySeen) -> PlainQuery:
    place = row.place
    assert place is not None
    return PlainQuery(
        number, route, row.text, [v for v in row.parameters if isinstance(v, int | str)], row.start_ns, row.duration_ns,
        row.rows, row.bytes, row.digest, place.file, place.line, place.function,
        row.connection, [[v for v in values if isinstance(v, int | str)] for values in row.sample or ()],
    )  # fmt: skip
