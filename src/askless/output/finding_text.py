"""What is said of findings and edits, in the same words in every format. Nothing here draws."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from askless.core.findings.finding import NO_LINE, Cost, Edit, Finding, SourceLine
from askless.core.findings.severities import SEVERITIES
from askless.core.formatting import listed, location_text, number, plural, size
from askless.output.text import in_middle, milliseconds, percent, safe, short_path
from askless.reports import documents

UNLIKE = 2  # times as many queries as another request: no median describes both
PATH_MOST = 64  # characters of a path: what is longer gives way in the middle


def at(line: SourceLine) -> str:
    """A line of code as people write it: file:line, the file's path from here."""
    return location_text(in_middle(short_path(line.file), PATH_MOST), line.line)


def in_function(line: SourceLine) -> str:
    """The function of a line of code, after it; nothing if it is not known."""
    return f" in {safe(line.function)}" if line.function else ""


def place(line: SourceLine) -> str:
    """A line of code with its function."""
    return at(line) + in_function(line)


def where(line: SourceLine) -> str:
    """Where a change is to be made: no one can change a query in the template that shows it."""
    if line.function == "template":
        return f"where the query shown at {at(line)} is built"
    return f"at {at(line)}" if line.line else f"at {place(line)}"


SQL_MOST = 1200  # characters of a statement in a finding; the ends say what it is
SQL_END = 300


def statement(sql: str) -> str:
    """A statement as it is shown: of a very long one, a batch of hundreds of rows say, its ends."""
    omitted = len(sql) - SQL_MOST
    if omitted <= SQL_END:
        return sql
    begin, end = sql[: SQL_MOST - SQL_END], sql[-SQL_END:]
    return f"{begin} … {omitted:,} characters omitted (--json has them) … {end}"


def first_line(finding: Finding) -> str:
    """The first line of a finding, and how many more there are; '' where none is known."""
    if not finding.lines:
        return ""
    first, *others = finding.lines
    return place(first) + (f" and {len(others)} more" if others else "")


def gain(edit: Edit, mended: Sequence[Finding]) -> str:
    """What an edit saves on its first route, in a line."""
    if edit.saving_ms:
        saves = f"saves about {milliseconds(edit.saving_ms)} of {milliseconds(edit.request_ms)} ms"
        return f"{_queries(edit)}, {saves}"
    return saving(mended[0]) if mended else ""


def _queries(edit: Edit) -> str:
    """The queries before and after: as a range where the requests are not alike."""
    where = ""
    if edit.requests < edit.requests_in_route:
        where = f" in {edit.requests:,} of {plural(edit.requests_in_route, 'request')}"
    if edit.queries_most > UNLIKE * edit.queries_least:
        least, most = number(edit.queries_least), plural(edit.queries_most, "query")
        after = " to ".join(
            dict.fromkeys(
                number(count) for count in (edit.queries_least_after, edit.queries_most_after)
            )
        )
        return f"{least} to {most} per request → {after}{where}"
    before = plural(edit.queries, "query")
    return f"{before} per request → {number(edit.queries_after)}{where}"


OTHERS_MOST = 3  # routes that are named


def shared_line(edit: Edit) -> str:
    """What to say of an edit on a line that other routes run, too; '' where there is none."""
    if not edit.other_routes:
        return ""
    return (
        f"the line also serves {listed(edit.other_routes, OTHERS_MOST)}: there the rows would be loaded in vain, so add it where "
        "this route alone calls it"
    )


def saving(finding: Finding) -> str:
    """What a finding's advice saves, in a line; '' where there is nothing to count."""
    cost = finding.cost
    if cost.avoidable:
        return (
            f"saves about {plural(cost.avoidable, 'query')} and {milliseconds(cost.saving_ms)} "
            f"ms, {percent(cost.share)} of "
            f"the request ({milliseconds(cost.database_ms)} ms in the database)"
        )
    parts = []
    if cost.bytes:
        parts.append(size(cost.bytes))
    if cost.rows:
        parts.append(plural(cost.rows, "row"))
    known = finding.pattern not in ("over-wide", "unbounded") or finding.evidence == "traced"
    lead = "need not be fetched" if known else "fetched"
    return f"{lead}: {' and '.join(parts)} per request" if parts else ""


def costs(finding: Finding) -> list[str]:
    """What a finding costs, a line each."""
    cost: Cost = finding.cost
    each = f"median {milliseconds(cost.query_ms)} ms each, in {plural(finding.requests, 'request')}"
    lines = [f"{plural(cost.queries, 'query')} per request, {each}", saving(finding)]
    if cost.loop_ms:
        loop = f"the loop takes {milliseconds(cost.loop_ms)} ms per request"
        lines.append(f"{loop}, including application time")
    return [line for line in lines if line]


_SOURCES = {"keys": "the keys come from", "rows": "the rows were fetched at"}


def places(finding: Finding, most: int = 8) -> list[tuple[str, SourceLine | None]]:
    """Where a finding comes from, a line each: its text, and the line of code that it begins with
    where it does.
    """
    result: list[tuple[str, SourceLine | None]] = []
    for line in finding.lines[:most]:
        times = f", {plural(line.queries, 'query')} in the capture" if line.queries else ""
        result.append((place(line) + times, line))
    if not finding.lines:
        result.append((NO_LINE, None))
    if finding.source is not None:
        result.append((f"{_SOURCES[finding.source_role]} {place(finding.source)}", finding.source))
    result += [(f"called from {place(line)}", line) for line in finding.callers]
    if len(finding.path) > 1 and not finding.callers:
        called = " ← ".join(f"{safe(step.function)} ({at(step)})" for step in finding.path[1:])
        result.append(("called by " + called, None))
    return result


WHICHEVER = "Verify before merging"


def common_checks(finding: Finding) -> tuple[str, ...]:
    """What to verify for every alternative, if there are several: shown once, after them."""
    if len(finding.advice) < 2:
        return ()
    first, *others = finding.advice
    return tuple(check for check in first.verify if all(check in other.verify for other in others))


def kind(finding: Finding) -> str:
    """The pattern, with its variant."""
    return f"{finding.pattern} ({finding.variant})" if finding.variant else finding.pattern


def caller_apart(finding: Finding, others: Sequence[Finding]) -> SourceLine | None:
    """The nearest caller by which a finding is derived from others of its route at the same line;
    None without such.
    """

    def path(of: Finding) -> list[tuple[str, int]]:
        return [(line.file, line.line) for line in of.path]

    mine = path(finding)
    alike = [
        path(other)
        for other in others
        if other.route == finding.route
        and other is not finding
        and mine
        and path(other)[:1] == mine[:1]
    ]
    for depth in range(1, len(mine)):
        if any(other[: depth + 1] != mine[: depth + 1] for other in alike):
            return finding.path[depth]
    return None


def with_mended(document: documents.FindingsDocument) -> list[tuple[Edit, list[Finding]]]:
    """The edits, each with those of the document's findings that it fixes."""
    by_key = {finding.key: finding for finding in document.findings}
    return [
        (edit, [by_key[key] for key in edit.findings if key in by_key]) for edit in document.edits
    ]


def unsure_edits(document: documents.FindingsDocument) -> set[tuple[str, ...]]:
    """Minor edits that leave columns out which the page may read, by the findings that they fix: a
    short list shows the others first. Empty where there is nothing else to show.
    """
    unsure = {
        edit.findings
        for edit, mended in with_mended(document)
        if edit.severity == SEVERITIES[-1]
        and mended
        and all(one.pattern == "over-wide" and one.evidence != "traced" for one in mended)
    }
    return unsure if len(unsure) < len(document.edits) else set()


def of_unsure(document: documents.FindingsDocument, unsure: Collection[tuple[str, ...]]) -> str:
    """What to say of these edits together; '' where there is none."""
    keys = {key for findings in unsure for key in findings}
    wide = [finding for finding in document.findings if finding.key in keys]
    if not wide:
        return ""
    fetched = size(sum(finding.cost.bytes for finding in wide), "bytes")
    queries = "1 query fetches" if len(wide) == 1 else f"{len(wide):,} queries fetch"
    return (
        f"{queries} wide columns ({fetched} in all) that the page may or may not read: to find "
        f"out, record with --track-use; list: askless findings {document.capture} --pattern "
        "over-wide"
    )


ALIKE_LEAST = 3  # findings that differ only in their route, from which one represents all


def alike(
    document: documents.FindingsDocument, mended: Sequence[Finding]
) -> list[tuple[int, Finding, int]]:
    """The findings of an edit that a list shows: (place in the edit, finding, how many others it
    represents, which say the same of other routes).
    """
    groups: dict[tuple[object, ...], list[tuple[int, Finding]]] = {}
    for turn, finding in enumerate(mended):
        said = (finding.pattern, finding.summary, first_line(finding), finding.evidence)
        accepted = finding.key in document.accepted
        groups.setdefault((*said, accepted), []).append((turn, finding))
    shown = []
    for group in groups.values():
        if len(group) >= ALIKE_LEAST and len({one.route for _, one in group}) == len(group):
            shown.append((*group[0], len(group) - 1))
        else:
            shown += [(turn, finding, 0) for turn, finding in group]
    return sorted(shown, key=lambda one: one[0])


def routes_of(edit: Edit) -> tuple[str, str]:
    """The route that gains most, and how many others there are ('' for none)."""
    more = f" and {plural(len(edit.routes) - 1, 'more route')}" if len(edit.routes) > 1 else ""
    return edit.routes[0], more


def nothing_found(document: documents.FindingsDocument) -> str:
    """What to say where there is no finding."""
    if document.hidden:
        return "No findings match the filters."
    return (
        f"No findings in {plural(document.requests, 'request')} and "
        f"{plural(document.queries, 'query')}."
    )


def weights(edits: Sequence[Edit]) -> str:
    """How many edits there are of each severity: `2 urgent, 1 minor`."""
    counted = [(sum(one.severity == name for one in edits), name) for name in SEVERITIES]
    return ", ".join(f"{count:,} {name}" for count, name in counted if count)


def remarks(document: documents.FindingsDocument) -> list[str]:
    """What a reader of a list of findings should know besides: an assumed way, filters, what is
    accepted.
    """
    lines = []
    if document.network_latency_ms:
        lines.append(
            f"{milliseconds(document.network_latency_ms)} ms of network latency added per query."
        )
    if document.hidden:
        lines.append(f"{document.hidden} more are hidden by filters.")
    if document.accepted:
        them = "it" if len(document.accepted) == 1 else "them"
        lines.append(
            f"{plural(len(document.accepted), 'finding')} accepted in askless.toml; use "
            f"--accepted to show {them}."
        )
    return lines


def all_of(document: documents.RequestsDocument) -> str:
    """What a capture adds up to that left requests out, with what its numbers may be off by."""
    queries, spent = document.estimated_queries, document.estimated_database_ms
    off = f" ± {queries.margin:,.0f}" if queries.margin >= 0.5 else ""
    off_ms = f" ± {milliseconds(spent.margin)}" if spent.margin else ""
    return (
        f"{plural(document.total_requests, 'request')}; recorded {document.requests:,}. Estimated: "
        f"{queries.value:,.0f}{off} queries, {milliseconds(spent.value)}{off_ms} ms (95 %)"
    )
