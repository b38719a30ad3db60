"""What must hold of every document of findings, whatever the capture: parts are no more than their
whole, nothing is more after a change than before it, names exist, what saves nothing is no finding.

Tests that print findings as JSON run it on all of them, and so do the benchmarks.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

ROUNDING = 1e-6
# Patterns that are about queries, rows or bytes that can be spared.
SPARING = {
    "find-or-create", "already-loaded", "n-plus-one", "sibling-filters", "duplicate", "discarded-rows", "unused-load",
    "over-wide", "row-multiplication", "unbounded", "write-loop", "stable-read",
}  # fmt: skip
# Names that an ORM or a query builder makes up: no one can find them in the code.
ALIAS = re.compile(r"\b(?:t\d+_r\d+|col_?\d+_\d+_?|anon_\d+|[a-z]+_\d+_[a-z_]+__)\b")


def impossible(document: dict[str, Any]) -> list[str]:
    """What can't be true of a document of `askless findings --json`; [] if all of it can."""
    faults = [
        f"{one['key']}: {fault}"
        for one in document["findings"]
        for fault in _of_finding(one, document["network_latency_ms"])
    ]
    named = {one["key"] for one in document["findings"]}
    split = {one["key"] for one in document["findings"] if one["pattern"] == "row-multiplication"}
    for edit in document["edits"]:
        more = len(split & set(edit["findings"]))  # queries of what was joined
        faults += [f"{edit['title']}: {fault}" for fault in _of_edit(edit, more)]
        if not named & set(edit["findings"]) and not document["hidden"]:
            faults.append(f"{edit['title']}: fixes nothing that is listed")
    return faults


def _of_finding(finding: dict[str, Any], latency: float) -> Iterator[str]:
    cost = finding["cost"]
    for name, value in cost.items():
        if value < 0:
            yield f"{name} is {value}"
    if cost["avoidable"] > cost["queries"] + ROUNDING:
        yield f"{cost['avoidable']} of {cost['queries']} queries are avoidable"
    if not 0 <= cost["share"] <= 1 + ROUNDING:
        yield f"it takes {cost['share']:.0%} of its request"
    if cost["loop_ms"] and not latency and cost["saving_ms"] > cost["loop_ms"] + ROUNDING:
        yield f"it saves {cost['saving_ms']} ms of a loop of {cost['loop_ms']} ms"
    if finding["requests"] < 1:
        yield "it was met in no request"
    spares = cost["avoidable"] or cost["rows"] or cost["bytes"] or cost["saving_ms"]
    if not spares and finding["pattern"] in SPARING:
        yield "it spares nothing"
    for advice in finding["advice"]:
        found = ALIAS.search(advice["title"]) or ALIAS.search(advice["code"])
        if found:
            yield f"it names {found[0]}, which an ORM made up"
    said = " ".join([finding["title"], *(advice["title"] for advice in finding["advice"])])
    for word in ("nan", "inf"):
        if re.search(rf"\b{word}\b", said):
            yield f"it says {word}"
    if re.match(r"0(?:\.0+)? ", finding["title"]):
        yield f"it counts nothing: {finding['title']}"


def _of_edit(edit: dict[str, Any], more: int) -> Iterator[str]:
    for name in ("queries", "queries_least", "queries_most"):
        before, after = edit[name], edit[f"{name}_after"]
        if not -ROUNDING <= after <= before + more + ROUNDING:
            yield f"{name}: {before} before, {after} after"
    if not edit["queries_least"] <= edit["queries"] <= edit["queries_most"]:
        yield f"{edit['queries']} is not within {edit['queries_least']} to {edit['queries_most']}"
    if edit["request_ms"] and edit["saving_ms"] > edit["request_ms"] + ROUNDING:
        yield f"it saves {edit['saving_ms']} of {edit['request_ms']} ms"
    if edit["requests"] > edit["requests_in_route"]:
        yield f"{edit['requests']} of {edit['requests_in_route']} requests"
    if ALIAS.search(edit["title"]):
        yield "it names what an ORM made up"
