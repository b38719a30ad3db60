"""A gate as JUnit's XML, which every CI system shows: a suite a route, a case a limit."""

from __future__ import annotations

import re
from collections.abc import Iterable
from xml.etree import ElementTree as Xml

from askless.core.findings.finding import Finding
from askless.output import finding_text, gate_text
from askless.output.formats import View
from askless.output.text import safe
from askless.reports import documents
from askless.reports.documents import Document

# signs that XML 1.0 has no way to write
_NO_XML = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")


def _text(text: str) -> str:
    return _NO_XML.sub("\ufffd", safe(text))


class Junit:
    """See the module. The form is the one that Jenkins publishes a schema of; the others read it
    too.
    """

    def check(self) -> None:
        """Nothing more is needed."""

    def render(self, document: Document, view: View) -> bytes:
        """The limits as cases; a route that was not asked is one that failed, or was skipped where
        that may be.
        """
        assert isinstance(document, documents.GateDocument)
        by_key = {finding.key: finding for finding in document.findings}
        root = Xml.Element("testsuites", name="askless gate")
        routes = dict.fromkeys([row.route for row in document.rows] + list(document.missing_routes))
        counted = [_suite(root, route, document, by_key) for route in routes]
        for place, name in enumerate(("tests", "failures")):
            root.set(name, str(sum(counts[place] for counts in counted)))
        Xml.indent(root)
        content: bytes = Xml.tostring(root, encoding="utf-8", xml_declaration=True)
        return content + b"\n"


def _suite(
    root: Xml.Element, route: str, document: documents.GateDocument, by_key: dict[str, Finding]
) -> tuple[int, int]:
    """The cases of a route; how many there are, and how many failed."""
    suite = Xml.SubElement(root, "testsuite", name=_text(route))
    failures = skipped = 0
    cases = _cases(row for row in document.rows if row.route == route)
    for name, rows in cases.items():
        case = Xml.SubElement(suite, "testcase", classname=_text(route), name=_text(name))
        over = [row for row in rows if row.over]
        if over:
            failures += 1
            message = "; ".join(map(_message, over))
            failed = Xml.SubElement(case, "failure", message=_text(message), type="over")
            keys = [key for row in over for key in row.findings if key in by_key]
            failed.text = _text("\n".join(_finding_text(by_key[key]) for key in keys))
    if route in document.missing_routes:
        case = Xml.SubElement(suite, "testcase", classname=_text(route), name="asked")
        message = _text(gate_text.not_judged(route))
        if document.missing_allowed:
            skipped += 1
            Xml.SubElement(case, "skipped").text = message
        else:
            failures += 1
            Xml.SubElement(case, "failure", message=message, type="not-asked")
    tests = len(cases) + (route in document.missing_routes)
    counts = {"tests": tests, "failures": failures, "errors": 0, "skipped": skipped}
    suite.attrib.update({name: str(count) for name, count in counts.items()})
    return tests, failures


def _cases(rows: Iterable[documents.GateRow]) -> dict[str, list[documents.GateRow]]:
    """Limits by the name of their case, which is the same whether it passes or fails, so that a CI
    system can follow it: it names no amount and no finding.
    """
    cases: dict[str, list[documents.GateRow]] = {}
    for row in rows:
        cases.setdefault(f"{gate_text.what(row)}, by the {row.source}", []).append(row)
    if any(row.source == "baseline" for named in cases.values() for row in named):
        cases.setdefault("findings, by the baseline", [])
    return cases


def _message(row: documents.GateRow) -> str:
    most = "at most" if row.source == "budget" else "no more than"
    allowed = (
        gate_text.limit(row) if row.measure == "patterns" else f"{most} {gate_text.limit(row)}"
    )
    by = f", over by {gate_text.over_by(row)}" if gate_text.over_by(row) else ""
    return f"{gate_text.seen(row)}; allowed: {allowed}{by}"


def _finding_text(finding: Finding) -> str:
    where = f"\n  {finding_text.first_line(finding)}" if finding.lines else ""
    return f"{finding.pattern} {finding.key}: {finding.title}{where}"


FORMATS = {"junit": Junit()}
