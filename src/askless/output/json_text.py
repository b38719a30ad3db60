"""Documents for programs: JSON, documented by `askless schema`."""

from __future__ import annotations

import msgspec

from askless.output.formats import View
from askless.reports.documents import Document


class Json:
    """See the module."""

    documents: frozenset[str] = frozenset()

    def check(self) -> None:
        """Nothing more is needed."""

    def render(self, document: Document, view: View) -> bytes:
        """The document, indented."""
        return msgspec.json.format(msgspec.json.encode(document), indent=2) + b"\n"


FORMATS = {"json": Json()}
