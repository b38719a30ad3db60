"""Oracle: its SQL is read; Ask Less does not connect to it."""

from __future__ import annotations

from askless.core.systems import Lexis, System, Traits
from askless.core.systems.lexical import COMMENT_FLAT, DOUBLE_PLAIN, RESERVED, STRING_PLAIN

SYSTEM = System(
    name="oracle",
    title="Oracle",
    dialect="oracle",
    lexis=Lexis(r"--[^\n]*", COMMENT_FLAT, STRING_PLAIN, (DOUBLE_PLAIN,), "?:%"),
    reserved=RESERVED,
    noise=r"select \? from dual$|alter session\b",
    catalogs=r"(?:sys\.|v\$\w|(?:all|user|dba)_(?:tab_col|tab_cols|cons_column|ind_column"
    r"|constraint|tab_comment)s?\w*\b)",
    offset_alone=True,
    unbounded=r"N?CLOB|BLOB|LONG|XMLTYPE|JSON",
    traits=Traits(random=4.0, hash_join=True, clustered=False),
)
