"""What a test may ask, checked on the requests of a block; the messages of failures."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import date

from askless.core import patterns
from askless.core.analysis.pipeline import findings_of, summarise
from askless.core.comparison.budgets import amount, budget_for, judge
from askless.core.findings.acceptance import sorted_out
from askless.core.findings.finding import Finding, SourceLine
from askless.core.formatting import location_text, plural
from askless.core.records.model import Request
from askless.output.text import short_path
from askless.project.file import Project
from askless.sources.app.in_process import own_queries

SHOWN_MOST = 12  # statements
TEXT_MOST = 88  # characters of one: pytest sets a margin in front


def known(names: Sequence[str]) -> list[str]:
    """The patterns of these names; all if none is named. Raises ValueError for a name that is
    none.
    """
    for name in names:
        if name not in patterns.REGISTRY:
            raise ValueError(f"there is no pattern {name!r}; {patterns.instead_of(name)}")
    return list(names or patterns.REGISTRY)


def on_route(requests: Sequence[Request], route: str) -> list[Request]:
    """The requests whose route contains a text."""
    return [request for request in requests if route in request.route]


def too_many(requests: Sequence[Request], most: int, explain: bool = True) -> str:
    """What to say where the requests asked more queries than they may; '' where they did not.

    With `explain`, what was found in them follows.
    """
    queries = list(own_queries(list(requests)))
    if len(queries) <= most:
        return ""
    counts: Counter[tuple[str, str]] = Counter()
    for request, i in queries:
        place = request.place(i)
        where = (
            f"{location_text(short_path(place.file), place.line)} in {place.function}"
            if place
            else "an unknown line"
        )
        counts[request.statement(i).shape.text, where] += 1
    lines = [f"{plural(len(queries), 'query')} sent, limit {most}:"]
    for (text, where), count in counts.most_common(SHOWN_MOST):
        lines.append(f"{count:>4} x {text[:TEXT_MOST]}{'…' if len(text) > TEXT_MOST else ''}")
        lines.append(f"       {where}")
    if len(counts) > SHOWN_MOST:
        lines.append(f"       and {len(counts) - SHOWN_MOST} other statements")
    for finding in findings_of(summarise(requests)) if explain else ():
        lines += ["", *described(finding)]
    return "\n".join(lines)


def unaccepted(
    requests: Sequence[Request], names: Sequence[str], project: Project, today: date
) -> str:
    """What to say of findings of these patterns that no one has accepted; '' where there is
    none.
    """
    met = [f for f in findings_of(summarise(requests, project.settings())) if f.pattern in names]
    remaining, ended = sorted_out(met, list(project.accepted), today)
    lines: list[str] = []
    for finding in remaining:
        lines += [*described(finding)]
        lines += [
            f"  it was accepted until {case.until}: {case.reason}"
            for known_one, case in ended
            if known_one is finding
        ]
        lines.append("")
    return "\n".join(lines).rstrip()


def over_budget(requests: Sequence[Request], project: Project, today: date) -> str:
    """What to say where requests ask more than the project's budgets allow, or have none; '' where
    they don't.
    """
    summary = summarise(requests, project.settings())
    findings, _ = sorted_out(findings_of(summary), list(project.accepted), today)
    lines = [
        f"{route.route} has no budget in {project.path or 'askless.toml'}: askless gate CAPTURE "
        "--propose writes them"
        for route in summary.routes.values()
        if route.requests
        and route.queries.at(1.0)
        and budget_for(route.route, project.budgets) is None
    ]
    for one in judge(summary, project.budgets, findings):
        if one.over and one.measure != "patterns":
            lines.append(
                f"{one.route}: {amount(one.measure, one.actual)}, limit "
                f"{amount(one.measure, one.limit)}"
            )
        for finding in one.findings:
            lines += ["", *described(finding)]
    return "\n".join(lines).strip()


def described(finding: Finding) -> list[str]:
    """A finding in a few lines: what, where, and what to do."""
    lines = [f"{finding.pattern} in {finding.route} [{finding.key}], evidence: {finding.evidence}"]
    lines.append(f"  {finding.title}")
    lines += [f"  at {_at(line)} in {line.function}" for line in finding.lines[:3]]
    for turn, advice in enumerate(finding.advice[:2]):
        at = f", at {_at(advice.at)}" if advice.at is not None and not turn else ""
        lines.append(f"  {'or' if turn else '->'} {advice.title}{at}")
        if advice.code:
            lines.append(f"     {advice.code}")
    return lines


def _at(line: SourceLine) -> str:
    return location_text(short_path(line.file), line.line)
