"""A capture judged: by the project's budgets, and against a capture from before."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from pathlib import Path

import msgspec

from askless.core.aggregation.summary import Summary
from askless.core.comparison import baseline as gating, budgets
from askless.core.comparison.captures import compare_findings
from askless.core.errors import AskLessError
from askless.core.findings.finding import Finding
from askless.core.formatting import HIDDEN, escaped_line, plural
from askless.project import file
from askless.project.file import Project
from askless.reports import documents
from askless.reports.findings import OpenAndExpired, open_findings
from askless.reports.loading import load, refuse_damage


def gate(
    path: Path, baseline: Path | None = None, partial: bool = False, allow_damaged: bool = False
) -> documents.GateDocument:
    """Budgets of the project's file, and a baseline where one is named. With `partial`, routes that
    were not asked may be missing.

    Raises AskLessError: no-budgets, other-application, project-file-bad, and capture-damaged unless
    that is allowed.
    """
    project = file.here()
    if not project.budgets and baseline is None:
        raise AskLessError(
            "no-budgets",
            f"nothing to check against: {project.path or file.FILE} has no [[budgets]], and no "
            "--baseline is named",
            f"propose budgets from this capture: askless gate {path} --propose >> {file.FILE}",
        )
    summary, notes = load(path, project=project)
    refuse_damage("" if allow_damaged else summary.damage)
    findings = open_findings(summary, project.path)
    judged = _by_budgets(summary, project, findings, notes)
    if baseline is not None:
        before, notes_before = load(baseline, project=project)
        refuse_damage("" if allow_damaged else before.damage)
        open_before = open_findings(before, project.path)
        compared = gating.compare_baseline(before, summary, open_before.open, findings.open)
        if not compared.counts:
            raise AskLessError(
                "other-application",
                f"{baseline} and {path} have no routes in common: the baseline belongs to another "
                "application",
                "name a capture of the same pages",
            )
        fixed = compare_findings(
            open_before.open, findings.open, before.requested, summary.requested
        ).fixed
        judged.add(compared, fixed, notes_before)
    judged.remarks += [
        f"{finding.key} was accepted until {case.until} ({case.reason}); it is reported again"
        for finding, case in findings.ended
    ]
    passed = bool(judged.rows) and not any(row.over for row in judged.rows)
    return documents.GateDocument(
        format="askless gate",
        capture=str(path),
        baseline=str(baseline) if baseline is not None else "",
        project=str(project.path) if project.path is not None else "",
        rows=tuple(sorted(judged.rows, key=lambda row: not row.over)),
        findings=tuple(judged.findings),
        missing_routes=tuple(judged.missing),
        accepted=len(findings.accepted),
        remarks=tuple(judged.remarks),
        passed=passed and (partial or not judged.missing),
        missing_allowed=partial,
        notes=judged.notes,
    )


class _Judged(msgspec.Struct):
    """What budgets and a baseline say of a capture."""

    rows: list[documents.GateRow]
    findings: list[Finding]
    missing: list[str]
    remarks: list[str]
    notes: tuple[str, ...]

    def add(
        self, compared: gating.BaselineResult, fixed: Sequence[Finding], notes: Iterable[str]
    ) -> None:
        """The comparison with a baseline, and the notes about that."""
        row = documents.GateRow
        self.rows += [
            row(one.route, one.measure, one.before, one.now, one.over, "baseline", ())
            for one in compared.counts
        ]
        self.rows += [
            row(finding.route, "patterns", 0, 1, True, "baseline", (finding.key,))
            for finding in compared.new
        ]
        self.findings += [one for one in compared.new if one not in self.findings]
        self.missing += [route for route in compared.only_before if route not in self.missing]
        self.remarks += [
            f"{route} is not in the baseline: only its budget applies"
            for route in compared.only_now
        ]
        self.remarks += [
            f"{one.route}: {budgets.amount(one.measure, one.before)} before, "
            f"{budgets.amount(one.measure, one.now)} now; its other counts fell by more"
            for one in compared.counts
            if one.outweighed
        ]
        self.remarks += [
            f"{finding.key} is new on {finding.route}, which costs no more than before, so it does "
            f"not fail the gate: {finding.summary}"
            for finding in compared.listed
        ]
        self.remarks += [
            f"{finding.key} on {finding.route} {reason}: {finding.summary}"
            for finding, reason in compared.uncovered
        ]
        if fixed:
            self.remarks.append(
                f"{plural(len(fixed), 'finding')} of the baseline fixed: "
                + ", ".join(finding.key for finding in fixed)
            )
        self.notes = tuple(dict.fromkeys((*self.notes, *notes)))


def _by_budgets(
    summary: Summary, project: Project, judged: OpenAndExpired, notes: tuple[str, ...]
) -> _Judged:
    rows = [
        documents.GateRow(
            one.route,
            one.measure,
            one.limit,
            one.actual,
            one.over,
            "budget",
            tuple(finding.key for finding in one.findings),
            one.allowed,
        )
        for one in budgets.judge(summary, project.budgets, judged.open)
    ]
    named = {key for row in rows for key in row.findings}
    return _Judged(
        rows=rows,
        findings=[finding for finding in judged.open if finding.key in named],
        missing=[one.route for one in budgets.unmet(summary, project.budgets)],
        remarks=_unmet(project, [*judged.open, *judged.accepted]),
        notes=notes,
    )


def _unmet(project: Project, findings: Sequence[Finding]) -> list[str]:
    """Acceptances that no finding of the capture needs."""
    return [
        f"accepted but no longer found: {case.pattern}{' on ' + case.route if case.route else ''} "
        f"({case.reason}); remove it"
        for case in project.accepted
        if not any(case.fits(finding) for finding in findings)
    ]


def proposal(path: Path) -> str:
    """Budgets that hold what a capture asks now, as TOML, for routes that have none of their own.

    Raises AskLessError project-file-bad.
    """
    project = file.here()
    summary, _ = load(path, project=project)
    findings = open_findings(summary, project.path).open
    lines = [
        f"# Proposed by `askless gate --propose` from {escaped_line(path.name)}: the most queries "
        "of any request, rows and bytes with",
        f"# {100 * (budgets.ROOM - 1):.0f} % of headroom, and the current patterns. Add "
        "database_ms = N to limit time.",
    ]
    known = {one.route for one in project.budgets}
    for one in budgets.propose(summary, findings):
        if one.route in known:
            continue
        lines += [
            "",
            "[[budgets]]",
            f"route = {_toml(one.route)}",
            f"queries = {one.queries}",
            f"rows = {one.rows:.0f}",
            f"bytes = {one.bytes}",
            f"allowed = [{', '.join(map(_toml, one.allowed or ()))}]",
        ]
    return "\n".join(lines) + "\n"


def _toml(text: str) -> str:
    """A string as TOML has it, with what can't be seen as an escape; read again, it is the same."""
    return HIDDEN.sub(
        lambda match: (
            f"\\u{ord(match[0]):04x}" if ord(match[0]) < 0x10000 else f"\\U{ord(match[0]):08x}"
        ),
        json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f"),
    )
