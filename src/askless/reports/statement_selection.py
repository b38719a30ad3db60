"""Which statements a report is about: the costliest of a capture, those of one request, or one that
was typed.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from askless.core.aggregation.shape_stats import Example, ShapeStats
from askless.core.aggregation.summary import RouteStats, Summary
from askless.core.errors import AskLessError
from askless.core.indexing.workload import Updated, Writes, no_writes, none_updated
from askless.core.records.model import Request
from askless.core.sql.slots import Value
from askless.core.sql.structure import Structure
from askless.core.sql.structure_store import structure_of
from askless.reports.loading import load, requests_of
from askless.reports.routes import check_route
from askless.reports.timeline import named

EXPLAINED = ("select", "update", "delete")


class Subject(msgspec.Struct):
    """A statement to explain, with one execution's values, and what it cost in the capture (all of
    it, by what was kept).

    `system` is the SQL that it is written in; '' for that of the database. `others` are values of
    other executions.
    """

    text: str
    parameters: tuple[Value, ...] = ()
    names: tuple[str, ...] = ()
    rows: int | None = None
    shape: str = ""
    routes: tuple[str, ...] = ()
    queries: int = 0
    total_ns: int = 0
    system: str = ""
    others: tuple[tuple[Value, ...], ...] = ()


def parse_parameters(text: str) -> tuple[tuple[Value, ...], tuple[str, ...]]:
    """Values and names from --parameters. Raises AskLessError bad-parameters."""
    if not text:
        return (), ()
    try:
        given = json.loads(text)
    except ValueError as error:
        raise AskLessError(
            "bad-parameters",
            f"--parameters is not JSON: {error}",
            "write a list: --parameters '[1, \"due\"]'",
        ) from None
    if isinstance(given, dict):
        return tuple(given.values()), tuple(given)
    if not isinstance(given, list):
        raise AskLessError(
            "bad-parameters",
            "--parameters takes a list or an object",
            "write: --parameters '[1, \"due\"]'",
        )
    return tuple(
        ("list", json.dumps(value)) if isinstance(value, list) else value for value in given
    ), ()


def _is_subject(stats: ShapeStats, shape: str) -> bool:
    """Whether a shape has examples, can be explained, and is the one asked for, if one is."""
    structure = stats.structure
    wanted = stats.shape.digest.startswith(shape) if shape else structure is not None
    return bool(stats.examples) and wanted and (structure is None or structure.kind in EXPLAINED)


def costliest(
    summary: Summary, top: int | None = None, shape: str = "", route: str = ""
) -> list[Subject]:
    """The shapes that cost most time over the capture, or over the routes whose names contain a
    text, each once, with an execution whose text and values are whole.
    """
    merged: dict[str, list[tuple[RouteStats, ShapeStats]]] = {}
    for one in _chosen(summary, route):
        for stats in one.own_shapes():
            if _is_subject(stats, shape):
                merged.setdefault(stats.shape.digest, []).append((one, stats))
    subjects = []
    for digest, uses in merged.items():
        example, *others = _whole([stats for _, stats in uses])
        same = (example.text, example.statement.names)
        alike = [one for one in others if (one.text, one.statement.names) == same]
        by_time = sorted(uses, key=lambda item: -item[1].duration_ns)
        subjects.append(
            Subject(
                text=example.text,
                parameters=example.parameters,
                names=example.statement.names,
                rows=example.rows,
                shape=digest,
                routes=tuple(one.route for one, _ in by_time),
                queries=round(sum(one.scale * stats.count for one, stats in uses)),
                total_ns=round(sum(one.scale * stats.duration_ns for one, stats in uses)),
                system=example.statement.system,
                others=tuple(one.parameters for one in alike),
            )
        )
    return sorted(subjects, key=lambda subject: (-subject.total_ns, subject.shape))[:top]


def _chosen(summary: Summary, route: str) -> list[RouteStats]:
    return [one for one in summary.routes.values() if route in one.route]


def _whole(stats: list[ShapeStats]) -> list[Example]:
    """The executions kept, those with a value cut off omitted where there are others."""
    examples = [example for one in stats for example in one.examples]
    whole = [
        e
        for e in examples
        if not any(isinstance(v, tuple) and v[0].startswith("cut") for v in e.parameters)
    ]
    return whole or examples


class Workload(msgspec.Struct, frozen=True):
    """Statements, the dearest first; how many writes of the capture would keep an index up; notes
    on the capture.

    `shapes` is how many there are on the same routes, and `share` the part of their time that
    those of the workload take; 0 where that is not known.
    """

    subjects: tuple[Subject, ...]
    writes: Writes = no_writes
    updated: Updated = none_updated
    notes: tuple[str, ...] = ()
    shapes: int = 0
    share: float = 0.0


def typed(text: str, parameters: str = "") -> Workload:
    """One statement, with the values of its placeholders as JSON. Raises AskLessError
    bad-parameters.
    """
    return Workload((Subject(text, *parse_parameters(parameters)),))


def of_capture(path: Path, top: int | None = None, shape: str = "", route: str = "") -> Workload:
    """The shapes of a capture that cost most. Raises AskLessError nothing-to-explain if there is
    none, no-route if no route contains that text.
    """
    return of_summary(path, *load(path, look=False), top=top, shape=shape, route=route)


def of_summary(
    path: Path,
    summary: Summary,
    notes: tuple[str, ...] = (),
    *,
    top: int | None = None,
    shape: str = "",
    route: str = "",
) -> Workload:
    """The same of a capture that is added up already."""
    check_route(route, summary.requested, path)
    subjects = costliest(summary, top, shape, route)
    if not subjects:
        what = f"no statement of shape {shape}" if shape else "no SELECT, UPDATE or DELETE"
        damage = f"; the capture is incomplete: {summary.damage}" if summary.damage else ""
        raise AskLessError(
            "nothing-to-explain", f"{path} holds {what}{damage}", "record more of the application"
        )
    times: dict[str, float] = {}
    for one in _chosen(summary, route):
        for stats in one.own_shapes():
            taken_ns = one.scale * stats.duration_ns
            times[stats.shape.digest] = times.get(stats.shape.digest, 0.0) + taken_ns
    whole_ns = sum(times.values())
    share = sum(subject.total_ns for subject in subjects) / whole_ns if whole_ns else 0.0
    return Workload(
        tuple(subjects), writes_of(summary), updated_by(summary), notes, len(times), min(share, 1.0)
    )


def of_request(path: Path, name: str, query: int | None) -> Workload:
    """The queries of one request, noise omitted: each shape once, or the one query with this place
    (from 1).

    Raises AskLessError no-request, no-query, nothing-to-explain.
    """
    request = named(requests_of(path), name, path)
    queries = own_queries(request) if query is None else [query_at(request, query)]
    results: dict[str, Subject] = {}
    for i in queries:
        statement = request.statement(i)
        known = results.get(statement.shape.digest)
        if known is not None:
            known.queries += 1
            known.total_ns += request.durations_ns[i]
            continue
        results[statement.shape.digest] = Subject(
            request.text(i),
            request.parameters[i],
            statement.names,
            request.rows[i],
            statement.shape.digest,
            (request.route,),
            1,
            request.durations_ns[i],
            statement.system,
        )
    explained = [
        s
        for s in results.values()
        if (structure := structure_of(s.text, s.system)) is None or structure.kind in EXPLAINED
    ]
    if not explained:
        raise AskLessError(
            "nothing-to-explain",
            f"request {name} holds no SELECT, UPDATE or DELETE",
            "name another request",
        )
    return Workload(tuple(sorted(explained, key=lambda subject: -subject.total_ns)))


def own_queries(request: Request) -> list[int]:
    """The queries of a request, noise omitted."""
    return [i for i in range(len(request)) if not request.statement(i).shape.noise]


def query_at(request: Request, query: int) -> int:
    """The query of a request at a place, from 1, noise not counted. Raises AskLessError
    no-query.
    """
    queries = own_queries(request)
    if not 1 <= query <= len(queries):
        raise AskLessError(
            "no-query",
            f"request {request.name} has no query {query}: it has {len(queries)}",
            "noise is not counted",
        )
    return queries[query - 1]


def _written(summary: Summary) -> Iterator[tuple[Structure, int]]:
    """The shapes of a capture that write, with how often they ran."""
    for route in summary.routes.values():
        for stats in route.own_shapes():
            structure = stats.structure
            if structure is not None and structure.kind in ("insert", "update", "delete"):
                yield structure, round(route.scale * stats.count)


def _columns_written(structure: Structure) -> frozenset[str]:
    return frozenset(column.lower() for column in structure.written)


def updated_by(summary: Summary) -> Updated:
    """The columns of a table that the capture's UPDATEs set."""
    columns: dict[str, frozenset[str]] = {}
    for structure, _ in _written(summary):
        if structure.kind == "update":
            table = structure.main.lower()
            columns[table] = columns.get(table, frozenset()) | _columns_written(structure)

    return lambda table: columns.get(table.lower(), frozenset())


def writes_of(summary: Summary) -> Writes:
    """How many of the capture's writes touch columns of a table: an UPDATE only if it sets one of
    them.
    """
    writes = [
        (structure.main.lower(), structure.kind, _columns_written(structure), times)
        for structure, times in _written(summary)
    ]

    def count(table: str, columns: Sequence[str]) -> int:
        wanted = {column.lower() for column in columns}
        return sum(
            times
            for main, kind, written, times in writes
            if main == table.lower() and (kind != "update" or not written or written & wanted)
        )

    return count
