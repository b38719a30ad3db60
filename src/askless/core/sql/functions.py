"""Which functions a statement calls, by the text: a parser may take a call for something else, or
not know it.
"""

from __future__ import annotations

import re

from askless.core.sql.tokens import tokens

_CALL = re.compile(r"(?<![\w$@])([A-Za-z_][\w$]*)\s*\(")


# Functions that give something else each time they are asked.
CHANGING = frozenset(
    """
    random rand randomblob random_normal uuid uuid_generate_v1 uuid_generate_v4 gen_random_uuid uuidv4 uuidv7 newid nextval
    clock_timestamp timeofday sysdate statement_timestamp
    """.split()  # noqa: SIM905
)


def functions_in(text: str, system: str) -> tuple[str, ...]:
    """Names that are before a bracket, in lower case, quoted ones as they are; literals and
    comments omitted.

    Words like IN and VALUES are among them: who knows the functions of a server knows that these
    are none.
    """
    pieces: list[str] = []
    quoted: dict[str, str] = {}
    start = 0
    for token in tokens(text, system):
        pieces.append(text[start : token.start])
        if token.kind == "name":
            mark = f"quoted{len(quoted)}"
            quoted[mark] = token.text[1:-1].replace(token.text[-1] * 2, token.text[-1])
            pieces.append(f" {mark} ")
        else:
            pieces.append(" ")
        start = token.end
    flat = "".join(pieces) + text[start:]
    names = (quoted.get(name, name.lower()) for name in _CALL.findall(flat))
    return tuple(dict.fromkeys(names))
