"""The plans that statements really ran by, if the capture holds them: those of auto_explain in a
server's log.
"""

from __future__ import annotations

from pathlib import Path

from askless.capture.reading import FileReport
from askless.core import plans
from askless.core.errors import AskLessError
from askless.core.plans.errors import UnreadablePlan
from askless.core.plans.observations import Observation, asks_one_row, merged, observe
from askless.core.plans.runtime_observations import observe_measured
from askless.core.plans.tree import Node, without_values
from askless.core.records.model import Request
from askless.core.records.schema import Schema
from askless.core.sql.masking import masker
from askless.core.sql.slots import Value, values_of
from askless.core.sql.structure_store import structure_of
from askless.reports import documents
from askless.reports.loading import notes_of, requests_of
from askless.reports.plan import PlanOptions
from askless.reports.plan_nodes import nodes_of
from askless.reports.routes import check_route
from askless.reports.statement_selection import query_at
from askless.reports.timeline import named

NO_PLANS = "name a database with --db, or a saved plan with --file"


class _Ran:
    """A shape of which plans were recorded: what it cost, and its slowest execution among those
    with a plan.
    """

    def __init__(self) -> None:
        self.plans = self.queries = self.total_ns = 0
        self.routes: dict[str, int] = {}
        self.slowest_ns = -1
        self.plan = self.text = self.system = ""
        self.names: tuple[str, ...] = ()
        self.parameters: tuple[Value, ...] = ()

    def add(self, request: Request, i: int) -> None:
        duration_ns = request.durations_ns[i]
        self.queries += request.weight
        self.total_ns += request.weight * duration_ns
        self.routes[request.route] = self.routes.get(request.route, 0) + duration_ns
        if i not in request.plans:
            return
        self.plans += 1
        if duration_ns > self.slowest_ns:
            self.slowest_ns = duration_ns
            statement = request.statement(i)
            self.plan, self.text, self.parameters = (
                request.plans[i],
                request.text(i),
                request.parameters[i],
            )
            self.system, self.names = statement.system, statement.names


def of_capture(
    path: Path, wish: PlanOptions, top: int | None = None, shape: str = "", route: str = ""
) -> documents.PlanDocument:
    """The plans of the shapes that cost most, of each the slowest one. Raises AskLessError
    no-database: there are none; no-route.
    """
    files: list[FileReport] = []
    ran: dict[str, _Ran] = {}
    names: set[str] = set()
    for request in requests_of(path, files):
        names.add(request.route)
        if route in request.route:
            _gather(ran, request, shape)
    check_route(route, names, path)
    return _document(path, ran, wish, top, notes_of(files))


def of_request(
    path: Path, name: str, query: int | None, wish: PlanOptions
) -> documents.PlanDocument:
    """The plans of the queries of one request, or of the query with this place (from 1, noise not
    counted).

    Raises AskLessError: no-request, no-query, no-database.
    """
    request = named(requests_of(path), name, path)
    ran: dict[str, _Ran] = {}
    _gather(ran, request, only=None if query is None else query_at(request, query))
    return _document(path, ran, wish)


def _gather(
    ran: dict[str, _Ran], request: Request, shape: str = "", only: int | None = None
) -> None:
    for i in range(len(request)) if only is None else (only,):
        queried = request.statement(i).shape
        if not queried.noise and queried.digest.startswith(shape):
            ran.setdefault(queried.digest, _Ran()).add(request, i)


def _document(
    path: Path,
    ran: dict[str, _Ran],
    wish: PlanOptions,
    top: int | None = None,
    notes: tuple[str, ...] = (),
) -> documents.PlanDocument:
    planned = sorted(((one, digest) for digest, one in ran.items() if one.plans), key=_cost)[:top]
    if not planned:
        raise AskLessError(
            "no-database", f"{path} contains no plans for these statements", NO_PLANS
        )
    rows = tuple(_row(one, digest, wish) for one, digest in planned)
    system = planned[0][0].system
    whole_ns = sum(one.total_ns for one in ran.values())
    explained_ns = sum(one.total_ns for one, _ in planned)
    return documents.PlanDocument(
        format="askless plan",
        system=system,
        statements=rows,
        schema_known=False,
        shapes=len(ran),
        time_share=explained_ns / whole_ns if whole_ns else 0.0,
        notes=notes,
    )


def _cost(planned: tuple[_Ran, str]) -> tuple[int, str]:
    one, digest = planned
    return -one.total_ns, digest


def _row(one: _Ran, digest: str, wish: PlanOptions) -> documents.PlanRow:
    structure = structure_of(one.text, one.system)
    schema = wish.schema or Schema(one.system)
    mask = masker(one.system, wish.values)
    plan: tuple[Node, ...] = ()
    error = ""
    try:
        plan = without_values(plans.read_saved(one.plan)[1], mask)
    except UnreadablePlan as problem:
        error = f"its plan can't be read, line {problem.line}: {problem.reason}"
    expected: list[Observation] = []
    if wish.schema is not None:
        values = (
            values_of(structure.slots, one.parameters, one.names) if structure is not None else []
        )
        expected = observe(plan, structure, schema, None, values)
    measured = observe_measured(plan, one.system, asks_one_row(structure, schema))
    observations = merged(expected, measured)
    remark = f"the slowest of {one.plans:,} plans that were recorded" if one.plans > 1 else ""
    return documents.PlanRow(
        sql=mask(one.text),
        shape=digest,
        routes=tuple(sorted(one.routes, key=lambda route: -one.routes[route])),
        queries=one.queries,
        total_ms=one.total_ns / 1e6,
        plan=nodes_of(plan, schema, observations),
        indexes=(),
        error=error,
        remark=remark,
    )
