"""Documents for programs: JSON, documented by `askless schema`."""

from __future__ import annotations

import json

import msgspec

from askless.core.formatting import HIDDEN
from askless.core.json_encoding import encoded
from askless.output.formats import View
from askless.reports.documents import Document


class Json:
    """See the module."""

    def check(self) -> None:
        """Nothing more is needed."""

    def render(self, document: Document, view: View) -> bytes:
        """The document, indented. What can't be seen in a text, or turns its direction, is an
        escape of JSON's own.
        """
        text = msgspec.json.format(encoded(document), indent=2).decode()
        # A line feed between the values is the only character of these that is not a part of a
        # string.
        return HIDDEN.sub(lambda match: json.dumps(match[0])[1:-1], text).encode() + b"\n"


FORMATS = {"json": Json()}
