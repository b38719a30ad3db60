"""Documents as Markdown: what changed comes first, and all of it fits a comment on a pull
request.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from askless.core.findings.finding import Advice, Edit, Finding
from askless.core.formatting import plural, size
from askless.output import finding_text, gate_text
from askless.output.formats import View
from askless.output.text import one_line, safe
from askless.reports import documents
from askless.reports.documents import Document, name_of

# The smallest limit of the common hosts, in characters, less what a person may want to add
# (Bitbucket 32,768, GitHub 65,536, Azure DevOps 150,000, GitLab 1,000,000).
COMMENT_MOST = 32_000
CELL_MOST = 120
SQL_MOST = 1_500
_SIGNS = re.compile(r"([\\`*\[\]<>#|~$]|(?<![^\W_])_|_(?![^\W_])|^[-+=])")
_NUMBERED = re.compile(r"^(\d+)([.)])")
_ADDRESS = re.compile(r"@(?=\w)|(?<=\w)(?=://)")


def plain(text: str, longest: int = 0) -> str:
    """Text that no reader of Markdown takes for anything else: no mark-up, no mention of a person,
    no link.
    """
    escaped = _SIGNS.sub(r"\\\1", one_line(text, longest).replace("&", "&amp;"))
    escaped = _NUMBERED.sub(r"\1\\\2", escaped)
    return _ADDRESS.sub(lambda match: match[0] + "\u2060", escaped)


def code(text: str, longest: int = 0) -> str:
    """Text as it is, in one line; a fence longer than any run of backticks in it."""
    flat = one_line(text, longest) or " "
    fence = "`" * (1 + max((len(run) for run in re.findall(r"`+", flat)), default=0))
    room = " " if flat.startswith("`") or flat.endswith("`") else ""
    return f"{fence}{room}{flat}{room}{fence}"


def cell(text: str) -> str:
    """Text as it is, in a cell of a table."""
    return code(text, CELL_MOST).replace("|", "\\|")


def block(text: str, language: str = "") -> str:
    """Lines as they are."""
    shown = safe(text).strip("\n")
    if len(shown) > SQL_MOST:
        shown = shown[:SQL_MOST] + " …"
    fence = "`" * max(3, 1 + max((len(run) for run in re.findall(r"`+", shown)), default=0))
    return f"{fence}{language}\n{shown}\n{fence}"


def table(head: Sequence[str], sides: str, rows: Iterable[Sequence[str]]) -> str:
    """A table; `sides` has an l or an r for each column."""
    rules = ["---:" if side == "r" else "---" for side in sides]
    lines = [head, rules, *rows]
    return "\n".join("| " + " | ".join(line) + " |" for line in lines)


def fitting(blocks: Sequence[str], rest: Callable[[int], str]) -> str:
    """As many blocks as fit a comment; `rest` says what to do about those that do not."""
    parts: list[str] = []
    room = COMMENT_MOST - len(rest(len(blocks))) - 2
    for turn, one in enumerate(blocks):
        room -= len(one) + 2
        if room < 0:
            parts.append(rest(len(blocks) - turn))
            break
        parts.append(one)
    return "\n\n".join(parts) + "\n"


def findings(document: documents.FindingsDocument, view: View) -> str:
    """What to change, an edit after the other, each with what it fixes; or findings one by one, or
    one story.
    """
    lines = [*finding_text.remarks(document), *document.notes]
    if view.variant == "story":
        return fitting(
            [part for finding in document.findings for part in _story(finding)], lambda _: "…"
        )
    head = f"### Ask Less: {plural(len(document.findings), 'finding')}"
    totals = f"{plural(document.requests, 'request')}, {plural(document.queries, 'query')}"
    if not document.findings:
        return (
            "\n\n".join([head, plain(finding_text.nothing_found(document)), *map(plain, lines)])
            + "\n"
        )
    summed = (
        f"{finding_text.weights(document.edits)} in {totals}." if document.edits else f"{totals}."
    )
    if view.variant == "each" or not document.edits:
        blocks = [_one(finding, document) for finding in document.findings]
        more = "findings"
    else:
        unsure = finding_text.unsure_edits(document)
        blocks = [
            _edit(edit, mended, document)
            for edit, mended in finding_text.with_mended(document)
            if edit.findings not in unsure
        ]
        blocks += [plain(finding_text.of_unsure(document, unsure))] if unsure else []
        more = "edits"
    blocks = [head + "\n\n" + plain(summed), *blocks]
    if lines:
        blocks.append("\n\n".join(map(plain, lines)))
    return fitting(
        blocks,
        lambda omitted: (
            f"… and {omitted:,} {more} more omitted for lack of space: "
            f"{code(f'askless findings {document.capture} --all')}"
        ),
    )


def _edit(edit: Edit, mended: Sequence[Finding], document: documents.FindingsDocument) -> str:
    route, more = finding_text.routes_of(edit)
    lines = [
        f"#### {edit.severity}: {code(route)}{plain(more)}",
        plain(finding_text.gain(edit, mended)),
        _change(edit),
        plain(finding_text.shared_line(edit)),
    ]
    points = []
    for _, finding, others in finding_text.alike(document, mended):
        more = f", and {others:,} alike on other routes" if others else ""
        where = f", {code(finding_text.first_line(finding))}" if finding.lines else ""
        accepted = ", accepted" if finding.key in document.accepted else ""
        caller = finding_text.caller_apart(finding, document.findings)
        called = f", called at {code(finding_text.place(caller))}" if caller is not None else ""
        points.append(
            f"- {plain(finding.pattern)} {code(finding.key)} ({finding.evidence}{accepted}): "
            f"{plain(finding.summary)}{where}{called}{more}"
        )
    return "\n\n".join([*filter(None, lines), "\n".join(points)])


def _change(change: Edit | Advice) -> str:
    where = f", {plain(finding_text.where(change.at))}" if change.at is not None else ""
    call = (
        f"\n\n{block(change.code, 'python' if change.code.lstrip().startswith('.') else '')}"
        if change.code
        else ""
    )
    return f"→ **{plain(change.title)}**{where}{call}"


def _one(finding: Finding, document: documents.FindingsDocument) -> str:
    accepted = ", accepted" if finding.key in document.accepted else ""
    where = code(finding_text.first_line(finding)) if finding.lines else ""
    saves = finding_text.saving(finding)
    lines = [
        f"#### {finding.severity}: {plain(finding.pattern)} on {code(finding.route)}, "
        f"{code(finding.key)}{accepted}",
        plain(finding.title),
        where,
        plain(f"{saves}; evidence: {finding.evidence}") if saves else "",
        _change(finding.advice[0]) if finding.advice else "",
    ]
    return "\n\n".join(filter(None, lines))


def _alternatives(finding: Finding) -> str:
    rows = [
        [str(turn), plain(one.title), plain(one.saving), plain(one.trade_offs)]
        for turn, one in enumerate(finding.advice, 1)
    ]
    return table(["", "alternative", "benefit", "trade-offs"], "rlll", rows)


def _story(finding: Finding) -> list[str]:
    head = (
        f"### {finding.severity}: {plain(finding_text.kind(finding))} on {code(finding.route)}, "
        f"{code(finding.key)}"
    )
    sites = [
        f"- {code(text) if line is not None else plain(text)}"
        for text, line in finding_text.places(finding)
    ]
    caveats = [f"caveat: {caveat}" for caveat in finding.caveats]
    parts = [head, plain(finding.title), "**Where**", "\n".join(sites)]
    parts += [f"**Evidence: {finding.evidence}**", _items([*finding.evidence_details, *caveats])]
    parts += ["**Cost**", _items(finding_text.costs(finding))]
    parts += ["**The query**", block(finding_text.statement(finding.sql), "sql")]
    beside, common = len(finding.advice) > 1, finding_text.common_checks(finding)
    if beside:
        parts += ["**Alternatives compared**", _alternatives(finding)]
    for turn, advice in enumerate(finding.advice, 1):
        parts += [f"**Advice {turn} of {len(finding.advice)}**: {_change(advice)}"]
        labelled = [("why", advice.why)]
        if not beside:
            labelled += [("saving", advice.saving), ("trade-offs", advice.trade_offs)]
        labelled += [("verify", check) for check in advice.verify if check not in common]
        parts.append(_items([f"{name}: {text}" for name, text in labelled if text]))
        if advice.sql:
            parts += ["the SQL afterwards:", block(finding_text.statement(advice.sql), "sql")]
    if common:
        parts += [f"**{finding_text.WHICHEVER}**", _items(common)]
    return [part for part in parts if part]


def _items(texts: Iterable[str]) -> str:
    return "\n".join(f"- {plain(text)}" for text in texts)


def gate(document: documents.GateDocument) -> str:
    """Whether it passed, what is over, the findings that may not be there."""
    over = [row for row in document.rows if row.over]
    blocks = [
        f"### Ask Less: **{gate_text.outcome(document)}**\n\n{plain(gate_text.how_many(document))}"
    ]
    if over:
        rows = [
            [
                cell(row.route),
                gate_text.what(row),
                gate_text.limit(row),
                gate_text.seen(row),
                gate_text.over_by(row),
            ]
            for row in over
        ]
        blocks.append(table(["route", "what", "at most", "seen", "over by"], "llrrr", rows))
    blocks += [_finding(finding) for finding in document.findings]
    blocks += [plain(gate_text.not_judged(route)) for route in document.missing_routes]
    blocks += list(map(plain, document.remarks))
    if document.accepted:
        blocks.append(
            plain(f"{plural(document.accepted, 'finding')} accepted in {document.project}")
        )
    return fitting(
        blocks,
        lambda omitted: (
            f"… and {omitted:,} more parts omitted for lack of space: {_again(document)}"
        ),
    )


def _again(document: documents.GateDocument) -> str:
    words = [
        "askless gate",
        document.capture,
        *(["--baseline", document.baseline] if document.baseline else []),
    ]
    return code(" ".join(words))


def _finding(finding: Finding) -> str:
    where = f"\n  {code(finding_text.at(finding.lines[0]))}" if finding.lines else ""
    return (
        f"- {plain(finding.pattern)} on {code(finding.route)}, {code(finding.key)}: "
        f"{plain(finding.title)}{where}"
    )


def compare(document: documents.CompareDocument) -> str:
    """What became of the findings, then the routes: those first that ask something else now."""
    counts = ", ".join(
        f"{len(items):,} {title}"
        for title, items in (
            ("new", document.new),
            ("fixed", document.fixed),
            ("improved", document.improved),
            ("uncovered", document.uncovered),
            ("remaining", document.remaining),
        )
        if items or title != "uncovered"
    )
    blocks = [f"### Ask Less: findings {counts}"]
    if document.new:
        blocks += ["**New**", *map(_finding, document.new)]
    moved = [row for row in document.routes if gate_text.moved(row)]
    same = len(document.routes) - len(moved)
    if moved:
        head = ["route", "queries", "rows", "bytes", "ms per request, quartiles", "faster by"]
        blocks.append(table(head, "lrrrrl", map(_route, moved)))
    if same:
        blocks.append(
            plain(f"{plural(same, 'route')} {'asks' if same == 1 else 'ask'} the same as before.")
        )
    blocks.append(plain(gate_text.drift(document)))
    if document.uncovered:
        blocks.append("**Uncovered**")
        blocks += [f"{_finding(one.finding)}, {plain(one.reason)}" for one in document.uncovered]
    for title, items in (
        ("Fixed", document.fixed),
        ("Improved", document.improved),
        ("Remaining", document.remaining),
    ):
        if items:
            blocks += [f"**{title}**", *map(_finding, items)]
    if document.accepted:
        blocks.append(plain(f"{plural(document.accepted, 'finding')} accepted in askless.toml"))
    again = code(f"askless compare {document.before} {document.after}")
    return fitting(
        blocks, lambda omitted: f"… and {omitted:,} more parts omitted for lack of space: {again}"
    )


def _route(row: documents.CompareRow) -> list[str]:
    counts = [
        gate_text.pair(row.queries),
        gate_text.pair(row.rows),
        gate_text.pair(row.bytes, size),
    ]
    before, after = map(gate_text.spread, row.time)
    pairs = [
        one if one == other else f"{one} → {other}" for one, other in [*counts, (before, after)]
    ]
    return [cell(row.route), *pairs, plain(row.verdict.text)]


_DRAWN: dict[str, Callable[[Any], str]] = {"gate": gate, "compare": compare}


class Markdown:
    """See the module."""

    def check(self) -> None:
        """Nothing more is needed."""

    def render(self, document: Document, view: View) -> bytes:
        """The document as text."""
        if isinstance(document, documents.FindingsDocument):
            return findings(document, view).encode("utf-8", "replace")
        return _DRAWN[name_of(document)](document).encode("utf-8", "replace")


FORMATS = {"markdown": Markdown()}
