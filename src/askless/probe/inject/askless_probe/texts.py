"""Texts of statements as the capture holds them: what stays and literals in turns, cut where they
are long.
"""

import re

from .values import VALUE_MAX

SPLIT_MAX = 1_000_000  # characters of a statement in which literals are looked for
TEXT_MAX = 100_000  # characters of a statement that are kept whole
LITERALS_MAX = 20_000  # characters that the literals of a statement may have together
CUT_AT = 20_000  # characters that are kept of a statement which has more than that
CUT = " /* cut by askless */"
CUT_LITERAL = "... cut by askless'"

# A literal: 'it''s', 12, 0x1f, 1.5e3. What this pattern takes for one need only be put back
# unchanged; the reader decides what it means.
_LITERALS = re.compile(
    r"('[^']*(?:''[^']*)*'|(?<![\w.$:@?\"`])\d(?:[xX][0-9a-fA-F]+"
    r"|[\d_]*(?:\.\d*)?(?:[eE][+-]?\d+)?))"
)


def parts_of(text):
    """A text as what stays and its literals in turns, long literals and long texts cut."""
    if len(text) > SPLIT_MAX:
        text = cut_text(text)
    parts = _split(text)
    for i in range(1, len(parts), 2):
        if len(parts[i]) > VALUE_MAX:
            parts[i] = parts[i][:VALUE_MAX].rstrip("'") + CUT_LITERAL
    if sum(map(len, parts[1::2])) > LITERALS_MAX or sum(map(len, parts)) > TEXT_MAX:
        parts = _split(cut_text("".join(parts)))
    return parts


def _split(text):
    end = -len(CUT) if text.endswith(CUT) else None
    if "--" in text or "/*" in text[:end]:
        return [text]
    parts = _LITERALS.split(text[:end])
    parts[-1] += text[end:] if end else ""
    return parts


def cut_text(text):
    """The beginning of a statement, up to the end of a row of values where there is one, so that
    its shape stays.
    """
    head = text[:CUT_AT]
    for end in ("),", ",", " "):
        at = head.rfind(end)
        if at > 0:
            return head[: at + (end == "),")] + CUT
    return head + CUT


def safe_text(text):
    """A statement's text as JSON can hold it, cut where it is long."""
    return (cut_text(text) if len(text) > TEXT_MAX else text).encode("utf-8", "replace").decode()
