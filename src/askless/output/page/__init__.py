"""A report as one page of HTML that needs nothing but itself: no network, no scripts to be read,
light and dark, print.

Every text of a capture is hostile: Jinja escapes it, control signs are taken out, and the policy in
the page's head lets nothing in but the style and the script whose digests it names.
"""

from __future__ import annotations

import base64
from collections.abc import Callable
from hashlib import sha256
from importlib.resources import files
from typing import Any

import msgspec

from askless.output.formats import View
from askless.output.text import safe
from askless.reports import documents
from askless.reports.documents import Document

PAGE_MOST_BYTES = 10_000_000
FINDINGS_MOST, TIMELINES_MOST, ROUTES_MOST, GROWTH_MOST, PLANS_MOST = 500, 60, 400, 60, 40
ENTRIES_MOST = 150  # of one timeline
_SMALLEST = 8  # findings and timelines that are kept however long their texts are


class Sizes(msgspec.Struct, frozen=True):
    """How much of each part is shown."""

    findings: int = FINDINGS_MOST
    timelines: int = TIMELINES_MOST
    routes: int = ROUTES_MOST
    growth: int = GROWTH_MOST
    text: int = 6_000  # characters of one statement

    def half(self) -> Sizes:
        """Half of each."""
        return Sizes(*(getattr(self, name) // 2 for name in self.__struct_fields__))


class Page:
    """See the module."""

    def check(self) -> None:
        """Nothing more is needed."""

    def render(self, document: Document, view: View) -> bytes:
        """The page; what it has no room for is said on it."""
        assert isinstance(document, documents.ReportDocument)
        return page(document)


def page(document: documents.ReportDocument, live: str = "") -> bytes:
    """The page of a report, at most 10 MB; of one that grows, `live` is where to hear of that."""
    sizes = Sizes()
    while True:
        content = _drawn(document, sizes, live)
        if len(content) <= PAGE_MOST_BYTES or sizes.findings <= _SMALLEST:
            return content
        sizes = sizes.half()


def _drawn(document: documents.ReportDocument, sizes: Sizes, live: str) -> bytes:
    style, script = _own("style.css"), _own("script.js")
    cut, left_out = _cut(document, sizes)
    text = _template()(
        report=cut,
        sizes=sizes,
        left_out=[*document.omitted, *left_out],
        style=style,
        script=script,
        live=live,
        style_digest=_digest(style),
        script_digest=_digest(script),
        entries_most=ENTRIES_MOST,
    )
    return text.encode("utf-8", "replace")


def _cut(
    document: documents.ReportDocument, sizes: Sizes
) -> tuple[documents.ReportDocument, list[str]]:
    """The parts that there is room for, and what was omitted, in words."""
    findings, routes = document.findings, document.requests.routes
    keys = {key for edit in findings.edits for key in edit.findings} & {
        f.key for f in findings.findings[: sizes.findings]
    }
    edits = tuple(edit for edit in findings.edits if not keys.isdisjoint(edit.findings))
    named = document.capture
    left_out = [
        f"{total - most:,} {what} more than the {most:,} that are shown: {how}"
        for total, most, what, how in (
            (len(findings.findings), sizes.findings, "findings", f"askless findings {named} --all"),
            (len(routes), sizes.routes, "routes", f"askless requests {named}"),
            (
                len(document.timelines),
                sizes.timelines,
                "timelines",
                f"askless timeline {named} --route ROUTE",
            ),
            (
                len(document.growth.routes),
                sizes.growth,
                "routes' growth",
                f"askless growth {named}",
            ),
        )
        if total > most
    ]
    result = msgspec.structs.replace(
        document,
        findings=msgspec.structs.replace(
            findings, findings=tuple(f for f in findings.findings if f.key in keys), edits=edits
        ),
        requests=msgspec.structs.replace(document.requests, routes=routes[: sizes.routes]),
        timelines=document.timelines[: sizes.timelines],
        growth=msgspec.structs.replace(
            document.growth, routes=document.growth.routes[: sizes.growth]
        ),
    )
    return result, left_out


def _own(name: str) -> str:
    return (files(__package__) / name).read_text(encoding="utf-8")


def _digest(text: str) -> str:
    return "sha256-" + base64.b64encode(sha256(text.encode()).digest()).decode()


def _template() -> Callable[..., str]:
    import jinja2

    from askless.core import formatting
    from askless.output import finding_text, gate_text, growth_text, plan_text, text
    from askless.output.page import drawing

    def finalize(value: Any) -> Any:
        return safe(value) if type(value) is str else value  # Markup of ours is a subclass

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("askless.output.page", "parts"),
        autoescape=True,
        trim_blocks=True,
        lstrip_blocks=True,
        undefined=jinja2.StrictUndefined,
        finalize=finalize,
    )
    environment.globals.update(
        words=formatting,
        phrases=finding_text,
        judged=gate_text,
        planned=plan_text,
        growing=growth_text,
        text=text,
        drawing=drawing,
    )
    return environment.get_template("page.html").render


FORMATS = {"html": Page()}
