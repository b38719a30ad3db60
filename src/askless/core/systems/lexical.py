"""Pieces of regular expressions, and words, that several systems share."""

from __future__ import annotations

# A repetition that never gives back is written as a group (?>…) here: with a look-ahead inside,
# `*+` finds nothing in Python 3.11.2, which Debian 12 has.
_WITHIN = r"[^*/]|\*(?!/)|/(?!\*)"
COMMENT_NESTED = (
    rf"/\*(?>(?:{_WITHIN}|/\*(?>(?:{_WITHIN}|/\*(?>(?:{_WITHIN})*)\*/)*)\*/)*)(?:\*/|\Z)"
)
COMMENT_FLAT = r"/\*(?>(?:[^*]|\*(?!/))*)(?:\*/|\Z)"
STRING_PLAIN = r"'(?:[^']|'')*+(?:'|\Z)"
STRING_ESCAPED = r"'(?:[^'\\]|\\.|'')*+(?:'|\\?\Z)"
DOUBLE_PLAIN = r'"(?:[^"]|"")*+(?:"|\Z)'
DOUBLE_ESCAPED = r'"(?:[^"\\]|\\.|"")*+(?:"|\\?\Z)'
BACKTICK = r"`(?:[^`]|``)*+(?:`|\Z)"
BRACKET = r"\[[^\]]*+(?:\]|\Z)"
DOLLAR = r"\$(?P<tag>(?:[A-Za-z_]\w*)?)\$(?s:.*?)(?:\$(?P=tag)\$|\Z)"

# Words that stand for something else where they are not quoted, in one system or another.
RESERVED = frozenset(
    """
    all analyze and any array as asc between both by case cast check collate column condition constraint create
    cross current_date default delete desc describe distinct div drop else end except exists explain false fetch
    for foreign from full grant group having in index inner insert intersect interval into is join key keys
    leading left like limit lines load lock match natural not null offset on or order out outer primary
    procedure range rank read references release rename repeat replace right row rows schema select set show
    signal some ssl system table then to trigger true union unique update usage use user using values when where
    window with write
    """.split()  # noqa: SIM905
)
