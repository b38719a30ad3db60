"""How large the numbers are that a statement adds up: what two orders of adding may differ by goes
by that, not by the sum.
"""

from __future__ import annotations

from sqlglot import exp

from askless.core.sql.parsing import parse, trying


def magnitudes(text: str, system: str) -> str:
    """The statement with the absolute values added up in each SUM and AVG of its result; '' where
    there is none.
    """
    parsed = parse(text, system)
    if parsed is None or not isinstance(parsed.tree, exp.Select):
        return ""
    with trying():
        sums = [
            node for item in parsed.tree.expressions for node in item.find_all(exp.Sum, exp.Avg)
        ]
        if not sums or any(isinstance(node.this, exp.Distinct) for node in sums):
            return ""
        for node in sums:
            node.set("this", exp.Abs(this=node.this.copy()))
        return parsed.written(parsed.tree)
    return ""
