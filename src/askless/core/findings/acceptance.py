"""Known cases: findings that someone has accepted, with a reason and an end date."""

from __future__ import annotations

from datetime import date

import msgspec

from askless.core.findings.finding import Finding


class Accepted(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One known case. What is left empty fits everything; `route` is a part of a route's name."""

    pattern: str
    reason: str
    until: date
    key: str = ""
    route: str = ""
    model: str = ""
    relation: str = ""

    def holds(self, today: date) -> bool:
        """Whether the case is accepted still. The end date is the last day."""
        return today <= self.until

    def fits(self, finding: Finding) -> bool:
        """Whether a finding is this case."""
        model, _, relation = finding.relation.partition(".")
        return (
            finding.pattern == self.pattern
            and self.key in ("", finding.key)
            and self.route in finding.route
            and self.model in ("", model)
            and self.relation in ("", relation)
        )


def sorted_out(
    findings: list[Finding], accepted: list[Accepted], today: date
) -> tuple[list[Finding], list[tuple[Finding, Accepted]]]:
    """The findings that no one has accepted, and those whose acceptance has ended, which stand
    among the former too.
    """
    open_findings, ended = [], []
    for finding in findings:
        cases = [case for case in accepted if case.fits(finding)]
        if any(case.holds(today) for case in cases):
            continue
        open_findings.append(finding)
        ended += [(finding, case) for case in cases[:1]]
    return open_findings, ended
