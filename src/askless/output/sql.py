"""Advised indexes as statements that can be pasted, and nothing else."""

from __future__ import annotations

from askless.output.formats import View
from askless.output.text import safe
from askless.reports.documents import Document, IndexesDocument


class Sql:
    """See the module."""

    def check(self) -> None:
        """Nothing more is needed."""

    def render(self, document: Document, view: View) -> bytes:
        """One CREATE INDEX a line."""
        assert isinstance(document, IndexesDocument)
        return "".join(safe(index.ddl) + ";\n" for index in document.indexes).encode()


FORMATS = {"sql": Sql()}
