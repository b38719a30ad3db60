"""`askless trial --before --after`: a rewritten statement against the first one."""

from __future__ import annotations

import argparse
from pathlib import Path
from statistics import median

from askless.cli.common import limits_of, load, print_document
from askless.cli.subjects import parse_parameters
from askless.core.errors import AskLessError
from askless.core.model import Schema
from askless.core.plans.tree import without_values
from askless.core.shape_stats import Example
from askless.core.sql.masking import masker
from askless.core.sql.shape import shape_of
from askless.core.sql.slots import Value, name_of, slots_of, values_of
from askless.database.connecting import parse_url
from askless.database.rewrite_trial import RewriteTrial, Side, Values, try_rewrite
from askless.output import documents, terminal, terminal_trials
from askless.output.plans import nodes_of
from askless.output.text import interval

Bound = tuple[tuple[Value, ...], tuple[str, ...]]


def run(options: argparse.Namespace) -> int:
    """Try and print; exit code 1 where the results differ."""
    if options.before is None or options.after is None:
        raise AskLessError(
            "what-to-try", "a rewriting has two statements", "give both: --before old.sql --after new.sql"
        )
    url = parse_url(options.db)
    before, after = _text(options.before), _text(options.after)
    values = _values(options, before, after, url.get_backend_name())
    trial = try_rewrite(url, before, after, values, limits_of(options), terminal.progress)
    terminal.progress_done()
    private = options.capture is not None and not options.values
    document = document_of(trial, show_rows=not private)
    print_document(document) if options.json else terminal_trials.rewrite(document)
    return 0 if document.same_result else 1


def _text(path: Path) -> str:
    try:
        text = path.read_text(encoding="utf-8-sig").strip()
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is no text"
        raise AskLessError(
            "statement-unreadable", f"can't read {path}: {reason}", "name a file with one SELECT"
        ) from None
    if not text:
        raise AskLessError("statement-unreadable", f"{path} is empty", "write one SELECT into it")
    return text


def _values(options: argparse.Namespace, before: str, after: str, system: str) -> list[Values]:
    """Sets of values: those given, else those of the capture's executions of the first statement."""
    if options.parameters:
        given = [parse_parameters(text) for text in options.parameters]
        return [Values(one, one) for one in given]
    if options.capture is None or not any(slot.placeholder for slot in slots_of(before, system)):
        return []
    digest = shape_of(before, system).digest
    summary, _ = load(options.capture)
    examples = [
        example
        for route in summary.routes.values()
        for stats in route.asked()
        if stats.shape.digest == digest
        for example in stats.examples
    ]
    if not examples:
        raise AskLessError(
            "not-in-capture",
            f"{options.capture} holds no query of the shape of {options.before}",
            "write the statement as the application sends it, or give values with --parameters",
        )
    found: list[Values] = []
    for example in examples:
        made = aligned(before, after, system, example)
        if made not in found:
            found.append(made)
    return found


def aligned(before: str, after: str, system: str, example: Example) -> Values:
    """The values of an execution for both statements: by slot for the first, by name, number or turn for the second.

    Raises AskLessError placeholders-differ.
    """
    statement = example.statement
    sent = values_of(slots_of(example.text, statement.system), example.parameters, statement.names)
    slots = slots_of(before, system)
    if len(slots) != len(sent):
        raise AskLessError(
            "placeholders-differ", f"--before has {len(slots)} values, the captured query {len(sent)}",
            "write lists (IN) as long as in the capture, or give values with --parameters",
        )  # fmt: skip
    placed = [(slot, value) for slot, value in zip(slots, sent, strict=True) if slot.placeholder]
    named = {name_of(slot): value for slot, value in placed if name_of(slot)}
    first: Bound = (tuple(named.values()), tuple(named)) if named else (tuple(value for _, value in placed), ())
    wanted = [slot for slot in slots_of(after, system) if slot.placeholder]
    names = dict.fromkeys(name_of(slot) for slot in wanted if name_of(slot))
    if names and all(name in named for name in names):
        return Values(first, (tuple(named[name] for name in names), tuple(names)))
    if not names and len(wanted) == len(placed):
        return Values(first, (tuple(value for _, value in placed), ()))
    if names and all(name.isdigit() and int(name) <= len(placed) for name in names):
        return Values(first, (tuple(value for _, value in placed), ()))
    raise AskLessError(
        "placeholders-differ",
        f"--before has {len(placed)} placeholders, --after {len(wanted)}, and they can't be matched",
        "name them alike in both (:status), or number them ($1)",
    )


def document_of(trial: RewriteTrial, show_rows: bool) -> documents.RewriteDocument:
    """A trial as it is printed."""
    found = trial.difference
    ratio = trial.ratio
    notes = []
    if trial.columns_before != trial.columns_after:
        notes.append(
            "the columns are named differently: " + ", ".join(trial.columns_before) + " before, "
            + ", ".join(trial.columns_after) + " after; code that reads them by name will notice"
        )  # fmt: skip
    if found is not None and trial.sets > 1:
        notes.append(f"the difference shows with set {trial.differs_at} of {trial.sets} sets of values")
    return documents.RewriteDocument(
        format="askless trial-rewrite",
        system=trial.system,
        sets=trial.sets,
        before=_side(trial.before, trial.system, show_rows),
        after=_side(trial.after, trial.system, show_rows),
        work_unit=trial.before.work_unit,
        repetitions=len(trial.before.times_ms),
        ratio=documents.measurement(ratio),
        same_result=found is None,
        difference=found.text if found is not None else "",
        cause=found.cause if found is not None else "",
        lost=found.lost if found is not None and show_rows else (),
        gained=found.gained if found is not None and show_rows else (),
        notes=tuple(notes),
        verdict=verdict(trial),
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


def verdict(trial: RewriteTrial) -> str:
    """What the trial showed, in words."""
    if trial.difference is not None or trial.ratio is None:
        return "not the same result: nothing was timed"
    ratio = trial.ratio
    if not ratio.certain:
        return f"no difference in time seen ({interval(ratio)})"
    if ratio.value > 1:
        return f"faster: ×{ratio.value:.2f} ({interval(ratio)})"
    return f"slower: takes ×{1 / ratio.value:.2f} of the time ({interval(ratio)} for before over after)"
