"""What is wrapped around a plan when it is pasted: a client's frame, a web page's invisible characters."""

from __future__ import annotations

import re

from askless.core.plans.unreadable import UnreadablePlan

# What web pages and mail put into a text: invisible breaks, and spaces of another kind.
_INVISIBLE = dict.fromkeys(map(ord, "\u200b\u200c\u200d\u2060\ufeff\u00ad")) | {0xA0: " ", 0x2007: " ", 0x202F: " "}
FRAME = re.compile(r"^\s*(?:QUERY PLAN|[-+=]{4,}|\(\d+ rows?\))\s*$")
_OTHER_FORMS = ((re.compile(r"^[ \t]*- Plan:", re.M), "YAML"), (re.compile(r"^[ \t]*<explain\b", re.M), "XML"))


def unframed(text: str) -> str:
    """The text without what was wrapped around it; JSON in psql's frame as JSON. Lines keep their numbers."""
    text = text.translate(_INVISIBLE)
    for pattern, name in _OTHER_FORMS:
        match = pattern.search(text)
        if match:
            line = text.count("\n", 0, match.start()) + 1
            raise UnreadablePlan(
                line, f"this is the {name} form, which is not read; the plain text and FORMAT JSON are"
            )
    lines = text.splitlines()
    if '"Plan"' in text or '"query_block"' in text:
        lines = ["" if FRAME.match(line) else re.sub(r"\s*\+$", "", line) for line in lines]
    return "\n".join(lines)
