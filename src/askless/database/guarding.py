"""What must hold before anything is run on somebody's database."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.engine import Connection

from askless.core.errors import AskLessError
from askless.core.sql.functions import functions_in
from askless.core.sql.parsing import parse
from askless.core.sql.statements import tables_in
from askless.database.servers import Limits, server_of


def check_functions(connection: Connection, texts: Sequence[str], limits: Limits) -> None:
    """Raises AskLessError unknown-function where a statement calls one that may reach outside of a transaction.

    A trial runs a statement hundreds of times, read-only and rolled back: what is written elsewhere stays written.
    """
    server = server_of(connection)
    system = server.system(connection)
    own, behind = (
        {name for text in some for name in functions_in(text, system)} - set(limits.trusted)
        for some in (texts, _views_in(connection, texts, system))
    )
    for name, reason in sorted(server.doubtful(connection, sorted(own | behind)).items()):
        who = "the statement" if name in own else "a view that the statement reads"
        raise AskLessError(
            "unknown-function",
            f"{who} calls {name}, {reason}; it would run again and again",
            f"leave it out, or say that it does nothing outside: --trust-function {name}",
        )


def _views_in(connection: Connection, texts: Sequence[str], system: str) -> list[str]:
    """What the views ask that the statements read, and the views below them."""
    results: list[str] = []
    waiting, seen = list(texts), set[str]()
    while waiting:
        parsed = parse(waiting.pop(), system)
        names = [name for name in (tables_in(parsed.tree) if parsed is not None else ()) if name not in seen]
        seen |= set(names)
        found = server_of(connection).views(connection, names) if names else []
        results += found
        waiting += found
    return results


def check_quiet(connection: Connection, tables: Sequence[str], limits: Limits, locks: bool = False) -> None:
    """Raises AskLessError server-busy where somebody else is at work on the tables, unless that was confirmed.

    `locks`: what is tried would lock a table, which copies would not.
    """
    if limits.even_if_busy:
        return
    text = server_of(connection).busy(connection, tables)
    if text:
        raise AskLessError(
            "server-busy",
            f"this database looks live: {text}",
            "try it on copies, which locks nothing: --on-copies; or confirm with --even-if-busy"
            if locks
            else "run the trial on a copy of it, or confirm with --even-if-busy",
        )
