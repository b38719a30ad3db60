"""What must hold before anything is run on somebody's database."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.engine import Connection

from askless.core.errors import AskLessError
from askless.core.sql.functions import functions_in
from askless.database.servers import Limits, server_of


def check_functions(connection: Connection, texts: Sequence[str], limits: Limits) -> None:
    """Raises AskLessError unknown-function where a statement calls one that may reach outside of a transaction.

    A trial runs a statement hundreds of times, read-only and rolled back: what is written elsewhere stays written.
    """
    server = server_of(connection)
    names = {name for text in texts for name in functions_in(text, server.system(connection))} - set(limits.trusted)
    for name, reason in sorted(server.doubtful(connection, sorted(names)).items()):
        raise AskLessError(
            "unknown-function",
            f"the statement calls {name}, {reason}; it would run again and again",
            f"leave it out, or say that it does nothing outside: --trust-function {name}",
        )


def check_quiet(connection: Connection, tables: Sequence[str], limits: Limits) -> None:
    """Raises AskLessError server-busy where somebody else is at work on the tables, unless that was confirmed."""
    text = server_of(connection).busy(connection, tables)
    if text and not limits.even_if_busy:
        raise AskLessError(
            "server-busy",
            f"this database looks live: {text}",
            "run the trial on a copy of it, or confirm with --even-if-busy",
        )
