"""Whether a server would take a statement that advice has written: what is refused is not
printed.
"""

from __future__ import annotations

import re

from sqlglot import exp

from askless.core.sql.parsing import parse
from askless.core.systems import system_of

_READS = re.compile(r"\s*(?:select|with)\b", re.I)
_FOUND_ROWS = re.compile(r"\bsql_calc_found_rows\b", re.I)
# A number of rows whose constant was masked; no server finds a type for it.
_COUNT_OF_VALUE = re.compile(r"\bcount\(\s*(?:\?|%s|\$\d+)\s*\)", re.I)
# Stands for as many rows as there are keys.
_ROWS_OF_KEYS = re.compile(r"\bvalues\s+:keys\b", re.I)


def acceptable(sql: str, system: str) -> str:
    """The SQL of an advice; '' where a SELECT of it can't be parsed, or a server is known to refuse
    it. What writes may be an outline.
    """
    sql = _COUNT_OF_VALUE.sub("COUNT(*)", sql)
    reads = [one for one in sql.split(";\n") if _READS.match(one)]
    return "" if any(_is_refused(one, system) for one in reads) else sql


def _is_refused(sql: str, system: str) -> bool:
    parsed = parse(_ROWS_OF_KEYS.sub("VALUES (1)", sql), system)
    if parsed is None:
        return True
    first = re.match(r"\s*select\s+sql_calc_found_rows\b", sql, re.I)
    if len(_FOUND_ROWS.findall(sql)) > bool(first):
        return True  # inside of a derived table
    return not system_of(system).offset_alone and any(
        select.args.get("offset") and not select.args.get("limit")
        for select in parsed.tree.find_all(exp.Select)
    )
