"""What a server of MySQL's kind may run for a statement, by its catalogs.

It keeps no parse tree to ask for. So every name in the text is held against the stored routines,
loadable functions, sequences and views of all schemas; the server compares them, by its own rules
of letters and accents. Views are followed through the text that the server keeps of them.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from sqlalchemy.engine import Connection
from sqlalchemy.exc import DBAPIError

from askless.core.sql.tokens import tokens
from askless.database.servers import Routine

# their views and functions only compute
_SYSTEM_SCHEMAS = "('sys', 'mysql', 'information_schema', 'performance_schema')"
_ROUTINES = f"""
SELECT routine_schema, routine_name, is_deterministic FROM information_schema.routines
WHERE routine_type <> 'PROCEDURE' AND routine_name IN %s AND routine_schema NOT IN {_SYSTEM_SCHEMAS}
"""  # noqa: S608
_VIEWS = f"""
SELECT table_schema, table_name, view_definition FROM information_schema.views
WHERE table_name IN %s AND table_schema NOT IN {_SYSTEM_SCHEMAS}
"""  # noqa: S608
_SEQUENCES = (
    "SELECT table_name FROM information_schema.tables WHERE table_type = 'SEQUENCE' AND "
    "table_name IN %s"
)
_ENGINES = """
SELECT table_schema, table_name, engine FROM information_schema.tables
WHERE table_name IN %s AND engine IN ('FEDERATED', 'CONNECT', 'SPIDER', 'OQGRAPH', 'SPHINX', 'S3', 'MROONGA')
"""
# Loadable functions, where either server keeps them; who may not read one learns nothing from it.
_LOADABLE = (
    "SELECT name FROM mysql.func WHERE name IN %s",
    "SELECT udf_name FROM performance_schema.user_defined_functions WHERE udf_name IN %s",
)
# Of the server's own: what takes locks, waits for others, reads files or counts on.
_HARMFUL = frozenset(
    """
    get_lock release_lock release_all_locks load_file master_pos_wait master_gtid_wait source_pos_wait
    wait_for_executed_gtid_set wait_until_sql_thread_after_gtids nextval setval lastval sys_exec sys_eval sys_set
    asynchronous_connection_failover_add_source group_replication_switch_to_single_primary_mode
    service_get_write_locks service_get_read_locks service_release_locks version_tokens_set version_tokens_lock_exclusive
    keyring_key_generate keyring_key_store keyring_key_remove
    """.split()  # noqa: SIM905
)
_WORD = re.compile(r"[^\W\d][\w$]*|\d+[^\W\d][\w$]*")
_NEXT = re.compile(r"\b(?:next|previous)\s+value\s+for\b|\.\s*(?:nextval|currval)\b", re.IGNORECASE)
# How a stored function is in the text that the server keeps of a view; its own functions stand
# without quotes.
_STORED_CALL = re.compile(r"`((?:[^`]|``)*)`\s*\(")


def routines_of(
    connection: Connection, text: str, trusted: Iterable[str], runs: bool = True
) -> list[Routine]:
    """What a statement may run that is not known to be harmless. `trusted` names are omitted, with
    or without schema.

    With `runs` false it is only planned: the optimizer evaluates no routine that is not called
    deterministic.
    """
    names = {name.lower() for name in trusted}
    results: dict[str, str] = {}
    seen: set[str] = set()
    waiting = [("", text)]
    while waiting:
        view, sql = waiting.pop()
        words, code = _names_in(sql)
        for name, reason in _doubts(connection, words, code, runs):
            results.setdefault(name, reason)
        if view and runs:
            for function in _STORED_CALL.findall(sql):
                results.setdefault(
                    function,
                    f"a stored function that the view {view} calls; its effects are unknown",
                )
        for schema, name, definition in _rows(connection, _VIEWS, words):
            key = f"{schema}.{name}"
            if key in seen or {key.lower(), name.lower()} & names:
                continue
            seen.add(key)
            if definition:
                waiting.append((key, definition))
            else:
                results.setdefault(key, "a view whose definition this user may not read")
    for routine in foreign_tables(
        connection, [*_names_in(text)[0], *(key.split(".")[1] for key in seen)], ()
    ):
        results.setdefault(routine.name, routine.reason)
    return [
        Routine(name, reason)
        for name, reason in results.items()
        if not {name.lower(), name.lower().rpartition(".")[2]} & names
    ]


def foreign_tables(
    connection: Connection, tables: Sequence[str], trusted: Iterable[str]
) -> list[Routine]:
    """Those of some tables whose rows another server or a program gives."""
    return [
        Routine(f"{schema}.{name}", f"a table of the engine {engine}, which may run code elsewhere")
        for schema, name, engine in _rows(connection, _ENGINES, tables)
        if not {name, f"{schema}.{name}"} & set(trusted)
    ]


def _doubts(
    connection: Connection, words: Sequence[str], code: str, runs: bool
) -> Iterable[tuple[str, str]]:
    for schema, name, deterministic in _rows(connection, _ROUTINES, words):
        if runs or deterministic != "NO":
            yield f"{schema}.{name}", "a stored routine; its effects are unknown"
    for sql in _LOADABLE:
        try:
            loadable = _rows(connection, sql, words)
        except DBAPIError:
            continue
        for (name,) in loadable:
            yield name, "a loadable function; its effects are unknown"
    for word in words:
        if word.lower() in _HARMFUL and re.search(rf"\b{re.escape(word)}\s*\(", code):
            yield word, "which has effects outside of its transaction"
    if _NEXT.search(code):
        for (name,) in _rows(connection, _SEQUENCES, words):
            yield name, "a sequence, which advances"


def _rows(connection: Connection, sql: str, words: Sequence[str]) -> list[tuple[str, ...]]:
    if not words:
        return []
    rows = connection.exec_driver_sql(sql, (list(words),)).all()
    return [tuple("" if value is None else str(value) for value in row) for row in rows]


def _names_in(text: str) -> tuple[list[str], str]:
    """Every word of a text that may name something, and the text without its literals and comments.

    What is in double quotes counts as a name, as a server may be said to read it so.
    """
    pieces: list[str] = []
    words: list[str] = []
    start = 0
    for token in tokens(text, "mariadb"):
        pieces.append(text[start : token.start])
        if token.kind == "name" or token.text[:1] == '"':
            name = token.text[1:-1].replace(token.text[-1] * 2, token.text[-1])
            words.append(name)
            pieces.append(f" {name} ")
        else:
            pieces.append(" ")
        start = token.end
    code = "".join(pieces) + text[start:]
    words += _WORD.findall(code)
    return list(dict.fromkeys(word for word in words if word)), code
