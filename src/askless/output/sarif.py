"""Findings as SARIF 2.1.0 (OASIS), which code hosts show next to the lines of code."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path, PurePosixPath
from typing import Any
from urllib.parse import quote

import msgspec

import askless
from askless.core import patterns
from askless.core.findings.finding import Finding, SourceLine
from askless.core.json_encoding import encoded
from askless.output import finding_text, gate_text
from askless.output.formats import View
from askless.output.text import safe
from askless.reports import documents
from askless.reports.documents import Document, name_of

SCHEMA = (
    "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
)
LEVELS = {"urgent": "error", "worthwhile": "warning", "minor": "note"}
ROOT = "PROJECT"
# a finding's name: made of pattern, route, shape and function, never of a line's number
FINGERPRINT = "askless/v1"
_PARTS_LEAST = 2  # of a path, that make it likely to be the same file in another folder
Json = dict[str, Any]


class Files:
    """Files as a reader of the project finds them: relative to its root, also those that were
    recorded elsewhere.
    """

    def __init__(self, root: Path) -> None:
        self._root = root.resolve()
        self._known: dict[str, Json] = {}

    def artifact(self, file: str) -> Json:
        """Where a file is: below the root, else by its whole path."""
        if file not in self._known:
            self._known[file] = self._found(file)
        return self._known[file]

    def _found(self, file: str) -> Json:
        path = PurePosixPath(safe(file.replace("\\", "/")))
        inside = self._inside(path)
        if inside is not None:
            return {"uri": quote(str(inside)), "uriBaseId": ROOT}
        return {"uri": ("file://" if path.is_absolute() else "") + quote(str(path))}

    def _inside(self, path: PurePosixPath) -> PurePosixPath | None:
        """The path from the root. Of a file from elsewhere (a container, another machine), the
        longest end that is there.
        """
        if not path.is_absolute():
            return None if ".." in path.parts else path
        if path.is_relative_to(self._root):
            return path.relative_to(self._root)
        parts = path.parts[1:]
        ends = (PurePosixPath(*parts[start:]) for start in range(len(parts) - _PARTS_LEAST + 1))
        return next((end for end in ends if (self._root / end).is_file()), None)


def _location(files: Files, line: SourceLine, message: str = "") -> Json:
    physical: Json = {"artifactLocation": files.artifact(line.file)}
    if line.line > 0:
        physical["region"] = {"startLine": line.line}
    location: Json = {"physicalLocation": physical}
    if line.function:
        location["logicalLocations"] = [{"name": safe(line.function), "kind": "function"}]
    if message:
        location["message"] = {"text": message}
    return location


_SOURCES = {"keys": "the keys come from here", "rows": "the rows were fetched here"}


def _result(files: Files, finding: Finding, state: str = "") -> Json:
    related = [(line, "the same pattern, from here") for line in finding.lines[1:]]
    if finding.source is not None:
        related.append((finding.source, _SOURCES[finding.source_role]))
    related += [(line, "called from here") for line in finding.callers or finding.path[1:]]
    related += [
        (one.at, f"advice: {safe(one.title)}") for one in finding.advice if one.at is not None
    ]
    result: Json = {
        "ruleId": finding.pattern,
        "level": LEVELS[finding.severity],
        "message": {"text": _message(finding)},
        "partialFingerprints": {FINGERPRINT: finding.key},
        "properties": {
            "route": safe(finding.route),
            "severity": finding.severity,
            "evidence": finding.evidence,
            "variant": finding.variant,
            "queriesPerRequest": finding.cost.queries,
            "avoidableQueriesPerRequest": finding.cost.avoidable,
            "savingMs": finding.cost.saving_ms,
        },
    }
    if finding.lines:
        result["locations"] = [_location(files, finding.lines[0])]
    else:
        result["locations"] = [
            {"logicalLocations": [{"fullyQualifiedName": safe(finding.route), "kind": "resource"}]}
        ]
    if related:
        result["relatedLocations"] = [
            {"id": number, **_location(files, line, message)}
            for number, (line, message) in enumerate(related, 1)
        ]
    if state:
        result["baselineState"] = state
    return result


def _message(finding: Finding) -> str:
    """What is wrong, what it costs, what to do first: plain text, in paragraphs."""
    parts = [f"{finding.route}: {finding.title}.", finding_text.saving(finding)]
    if finding.advice:
        first = finding.advice[0]
        where = f", {finding_text.where(first.at)}" if first.at is not None else ""
        parts.append(
            f"Suggested fix: {first.title}{where}" + (f"\n{first.code}" if first.code else "")
        )
    parts += [f"Not sure: {doubt}" for doubt in finding.caveats]
    return safe("\n\n".join(filter(None, parts)))


def _findings(document: documents.FindingsDocument, files: Files) -> list[Json]:
    results = []
    for finding in document.findings:
        result = _result(files, finding)
        if finding.key in document.accepted:
            result["suppressions"] = [
                {"kind": "external", "justification": "accepted in askless.toml"}
            ]
        results.append(result)
    return results


def _compare(document: documents.CompareDocument, files: Files) -> list[Json]:
    groups = (
        ("new", document.new),
        ("updated", document.improved),
        ("unchanged", [*document.remaining, *(one.finding for one in document.uncovered)]),
        ("absent", document.fixed),
    )
    return [_result(files, finding, state) for state, items in groups for finding in items]


def _gate(document: documents.GateDocument, files: Files) -> list[Json]:
    results = [_result(files, finding) for finding in document.findings]
    for row in document.rows:
        if row.over and row.measure != "patterns":
            results.append(_limit(row))
    return results


def _limit(row: documents.GateRow) -> Json:
    text = (
        f"{row.route}: {gate_text.seen(row)}, limit {gate_text.limit(row)}, exceeded by "
        f"{gate_text.over_by(row)}"
    )
    if row.source == "baseline":
        text = (
            f"{row.route}: {gate_text.seen(row)}, {gate_text.limit(row)}: exceeded by "
            f"{gate_text.over_by(row)}"
        )
    return {
        "ruleId": f"over-{row.source}",
        "level": "error",
        "message": {"text": safe(text)},
        "locations": [
            {"logicalLocations": [{"fullyQualifiedName": safe(row.route), "kind": "resource"}]}
        ],
        "properties": {
            "route": safe(row.route),
            "measure": row.measure,
            "limit": row.limit,
            "seen": row.actual,
        },
    }


_LIMITS = {
    "over-budget": "A request exceeds the route's budget in askless.toml",
    "over-baseline": "A request exceeds the baseline",
}
_RESULTS: dict[str, Callable[[Any, Files], list[Json]]] = {
    "findings": _findings,
    "compare": _compare,
    "gate": _gate,
}


def _rules(used: Iterable[str]) -> list[Json]:
    """The rules that results name, as the registry of patterns tells them."""
    rules: list[Json] = []
    names = dict.fromkeys(used)
    for rule in (
        pattern.rule
        for pattern in patterns.load([name for name in names if name in patterns.REGISTRY])
    ):
        rules.append(
            {
                "id": rule.id,
                "shortDescription": {"text": rule.title},
                "fullDescription": {"text": rule.help},
                "help": {
                    "text": f"{rule.help}\n\nClean: {rule.clean}\n\nDetails: askless patterns "
                    f"{rule.id}"
                },
                "defaultConfiguration": {"level": LEVELS[rule.severity]},
            }
        )
    return rules + [
        {"id": name, "shortDescription": {"text": _LIMITS[name]}}
        for name in names
        if name in _LIMITS
    ]


class Sarif:
    """See the module."""

    def check(self) -> None:
        """Nothing more is needed."""

    def render(self, document: Document, view: View) -> bytes:
        """One run with its rules and results; files are relative to the project's root."""
        results = _RESULTS[name_of(document)](document, Files(view.root or Path.cwd()))
        rules = _rules(result["ruleId"] for result in results)
        numbers = {rule["id"]: number for number, rule in enumerate(rules)}
        for result in results:
            result["ruleIndex"] = numbers[result["ruleId"]]
        driver = {
            "name": "Ask Less",
            "version": askless.__version__,
            "semanticVersion": askless.__version__,
            "rules": rules,
        }
        run: Json = {
            "tool": {"driver": driver},
            "originalUriBaseIds": {
                ROOT: {
                    "description": {
                        "text": "the project root: the folder with askless.toml or .git"
                    }
                }
            },
            "columnKind": "unicodeCodePoints",
            "results": results,
            "invocations": [
                {
                    "executionSuccessful": True,
                    "toolExecutionNotifications": [
                        {"message": {"text": safe(note)}, "level": "note"}
                        for note in document.notes
                    ],
                }
            ],
        }
        whole = {"$schema": SCHEMA, "version": "2.1.0", "runs": [run]}
        return msgspec.json.format(encoded(whole), indent=2) + b"\n"


FORMATS = {"sarif": Sarif()}
