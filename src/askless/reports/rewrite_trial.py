"""A trial of a rewritten statement against the first one."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from statistics import median

from askless.core.aggregation.shape_stats import Example
from askless.core.errors import AskLessError
from askless.core.plans.tree import without_values
from askless.core.progress import Progress, quiet
from askless.core.records.schema import Schema
from askless.core.sql.masking import masker
from askless.core.sql.shape import shape_of
from askless.core.sql.slots import Value, name_of, slots_of, values_of
from askless.core.verdicts import Outcome, Verdict, timed
from askless.core.whole_numbers import whole_number
from askless.database.connecting import parse_url
from askless.database.rewrite_trial import RewriteTrial, Side, Values, try_rewrite
from askless.database.servers import Limits
from askless.reports import documents
from askless.reports.loading import load, text_of
from askless.reports.plan_nodes import nodes_of
from askless.reports.statement_selection import parse_parameters

Bound = tuple[tuple[Value, ...], tuple[str, ...]]


def rewrite_trial(
    database: str,
    before: str,
    after: str,
    values: Sequence[Values],
    show: bool,
    limits: Limits | None = None,
    progress: Progress = quiet,
) -> documents.RewriteDocument:
    """Try a rewriting and tell. `show` has rows and literals shown.

    Raises AskLessError: not-a-select, server-busy, and what the database says.
    """
    trial = try_rewrite(parse_url(database), before, after, values, limits, progress)
    result = trial.difference
    remarks = []
    if trial.columns_before != trial.columns_after:
        remarks.append(
            "the columns are named differently: "
            + ", ".join(trial.columns_before)
            + " before, "
            + ", ".join(trial.columns_after)
            + " after; code that reads them by name will break"
        )
    if result is not None and trial.sets > 1:
        remarks.append(
            f"the results differ for set {trial.differs_at} of {trial.sets} sets of values"
        )
    if result is None:
        remarks += trial.doubts
    return documents.RewriteDocument(
        format="askless trial-rewrite",
        system=trial.system,
        sets=trial.sets,
        before=_side(trial.before, trial.system, show),
        after=_side(trial.after, trial.system, show),
        work_unit=trial.before.work_unit,
        repetitions=len(trial.before.times_ms),
        ratio=trial.ratio,
        same_result=result is None,
        difference=result.text if result is not None else "",
        cause=result.cause if result is not None else "",
        synthetic_rows=trial.harder,
        missing_rows=result.lost if result is not None and show else (),
        extra_rows=result.gained if result is not None and show else (),
        remarks=tuple(remarks),
        verdict=verdict(trial),
    )


def statement_in(path: Path) -> str:
    """The text of a file with one statement. Raises AskLessError statement-unreadable."""
    text = text_of(path, "statement-unreadable", "name a file with one SELECT").strip()
    if not text:
        raise AskLessError("statement-unreadable", f"{path} is empty", "write one SELECT into it")
    return text


def given_values(texts: Sequence[str]) -> list[Values]:
    """Sets of values for both statements, each as JSON. Raises AskLessError bad-parameters."""
    sets = [parse_parameters(text) for text in texts]
    return [Values(one, one) for one in sets]


def captured_values(path: Path, before: str, after: str, database: str) -> list[Values]:
    """The values of a capture's executions of the first statement, for both. None if it has no
    placeholder.

    Raises AskLessError: not-in-capture, placeholders-differ.
    """
    system = parse_url(database).get_backend_name()
    if not any(slot.placeholder for slot in slots_of(before, system)):
        return []
    digest = shape_of(before, system).digest
    summary, _ = load(path, look=False)
    examples = [
        example
        for route in summary.routes.values()
        for stats in route.own_shapes()
        if stats.shape.digest == digest
        for example in stats.examples
    ]
    if not examples:
        raise AskLessError(
            "not-in-capture",
            f"{path} contains no query of the original statement's shape",
            "write the statement as the application sends it, or give values with --parameters",
        )
    results: list[Values] = []
    for example in examples:
        values = aligned(before, after, system, example)
        if values not in results:
            results.append(values)
    return results


def _fit(names: Sequence[str], count: int) -> bool:
    """Whether names are numbers of so many placeholders."""
    numbers = [whole_number(name) for name in names]
    return all(number is not None and number <= count for number in numbers)


def aligned(before: str, after: str, system: str, example: Example) -> Values:
    """The values of an execution for both statements: by slot for the first, by name, number or
    turn for the second.

    Raises AskLessError placeholders-differ.
    """
    statement = example.statement
    sent = values_of(slots_of(example.text, statement.system), example.parameters, statement.names)
    slots = slots_of(before, system)
    if len(slots) != len(sent):
        raise AskLessError(
            "placeholders-differ",
            f"--before has {len(slots)} values, the captured query {len(sent)}",
            "write lists (IN) as long as in the capture, or give values with --parameters",
        )
    placed = [pair for pair in zip(slots, sent, strict=True) if pair[0].placeholder]
    named = {name_of(slot): value for slot, value in placed if name_of(slot)}
    in_turn: Bound = (tuple(value for _, value in placed), ())
    first: Bound = (tuple(named.values()), tuple(named)) if named else in_turn
    wanted = [slot for slot in slots_of(after, system) if slot.placeholder]
    names = tuple(dict.fromkeys(filter(None, map(name_of, wanted))))
    if names and named.keys() >= set(names):
        return Values(first, (tuple(named[name] for name in names), names))
    if _fit(names, len(placed)) if names else len(wanted) == len(placed):
        return Values(first, in_turn)
    raise AskLessError(
        "placeholders-differ",
        f"--before has {len(placed)} placeholders, --after {len(wanted)}, which can't be matched",
        "use the same names in both (:status), or number them ($1)",
    )


def _side(side: Side, system: str, show: bool) -> documents.TrialSide:
    plan = without_values(side.plan, masker(system, show))
    return documents.TrialSide(
        sql=side.sql,
        median_ms=median(side.times_ms) if side.times_ms else None,
        rows=side.rows,
        bytes=side.bytes,
        plan=nodes_of(plan, Schema(system=system), []),
        work=side.work,
    )


def verdict(trial: RewriteTrial) -> Verdict:
    """What the trial showed."""
    if trial.difference is not None or trial.ratio is None:
        return Verdict(Outcome.CHANGED, "different result, so nothing was timed")
    return timed(trial.ratio, "no measurable difference")
