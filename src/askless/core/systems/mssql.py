"""SQL Server: its SQL is read; Ask Less does not connect to it."""

from __future__ import annotations

from askless.core.systems import Lexis, System, Traits
from askless.core.systems.lexical import (
    BRACKET,
    COMMENT_NESTED,
    DOUBLE_PLAIN,
    RESERVED,
    STRING_PLAIN,
)

SYSTEM = System(
    name="mssql",
    title="SQL Server",
    dialect="tsql",
    lexis=Lexis(r"--[^\n]*", COMMENT_NESTED, STRING_PLAIN, (BRACKET, DOUBLE_PLAIN), "?@%:"),
    reserved=RESERVED,
    noise=r"select (?:@@\w+|sessionproperty\(\?\)|serverproperty\(\?\))(?: as \S+)?$|exec(?:ute)? "
    r"sp_(?:reset_connection|unprepare)\b",
    catalogs=r"\[?sys\]?\.",
    row_values="",
    offset_alone=True,
    entry_bytes_most=1700,
    unbounded=r"N?TEXT|XML|IMAGE",
    traits=Traits(random=4.0, hash_join=True, clustered=True),
)
