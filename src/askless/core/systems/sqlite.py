"""SQLite."""

from __future__ import annotations

from askless.core.systems import BY_CONFLICT, Lexis, Meaning, System, Traits
from askless.core.systems.lexical import (
    BACKTICK,
    BRACKET,
    COMMENT_FLAT,
    DOUBLE_PLAIN,
    RESERVED,
    STRING_PLAIN,
)

SYSTEM = System(
    name="sqlite",
    title="SQLite",
    dialect="sqlite",
    is_file=True,
    lexis=Lexis(r"--[^\n]*", COMMENT_FLAT, STRING_PLAIN, (DOUBLE_PLAIN, BACKTICK, BRACKET), "?:$@"),
    reserved=RESERVED,
    # Django shows its statements in DEBUG with the values that SQLite quotes for it.
    noise=r"select (?:sqlite_version|sqlite_compileoption_used)\(\??\)(?: as \S+)?$"
    r"|select quote\(\?\)(?:, quote\(\?\))*$",
    catalogs=r"sqlite_(?:master|schema|temp_master)\b",
    expression_index="{}",
    sorts_by_parts=True,
    traits=Traits(random=2.0, hash_join=False, clustered=True),
    partial_indexes=True,
    reads_in_turn=True,
    typed_values=False,
    row_values="VALUES :keys",
    upsert=BY_CONFLICT,
    meanings=(  # codes as in https://sqlite.org/rescode.html; what is only SQLITE_ERROR is known from its text
        Meaning(
            "database-refuses",
            "it is not an SQLite database: check the path in --db",
            ("SQLITE_NOTADB",),
        ),
        Meaning("timed-out", "raise --timeout, or query less", ("SQLITE_INTERRUPT",)),
        Meaning(
            "locked",
            "another session has locked the table: try again later",
            ("SQLITE_BUSY", "SQLITE_LOCKED"),
        ),
        Meaning(
            "no-rights",
            "request the privilege, or use another user in --db",
            ("SQLITE_PERM", "SQLITE_AUTH"),
        ),
        Meaning("writes-refused", "Ask Less only reads: name a SELECT", ("SQLITE_READONLY",)),
        Meaning(
            "not-there",
            "is this the capture's database? check --db",
            texts=("no such table", "no such column"),
        ),
    ),
)
