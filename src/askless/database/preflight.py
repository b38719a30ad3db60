"""What must hold before a statement is sent to someone's database. Every text passes here, whatever
is done with it.
"""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.engine import Connection

from askless.core.errors import AskLessError
from askless.core.sql.statements import checked_plannable, checked_select
from askless.database.driver_query import DriverQuery
from askless.database.servers import Limits, Routine, server_of

LIMITS = "askless_limits"  # in the `info` of a connection, since its transaction began
_CHECKED = "askless_checked"


def check(
    connection: Connection, query: DriverQuery, *, runs: bool, types: Sequence[str] = ()
) -> None:
    """Refuse a statement that may write, or run what is not known to be harmless.

    `runs` says that the statement is executed, not only planned. `types` are the server's types of
    `$1`, `$2`, … where the text has placeholders of the server's own. A statement that passed is
    not checked again on the same connection. Raises AskLessError: not-a-select, not-plannable,
    hidden-code, unknown-function, and what the database says.
    """
    checked: set[tuple[object, ...]] = connection.info.setdefault(_CHECKED, set())
    key = (query.sql, runs, tuple(types), *map(type, query.arguments))
    if key in checked:
        return
    (checked_select if runs else checked_plannable)(query.text, query.system)
    limits: Limits = connection.info.get(LIMITS) or Limits()
    refuse(
        server_of(connection).routines(connection, query, limits.trusted, runs, types),
        "the statement",
    )
    checked.add(key)


def refuse(routines: Sequence[Routine], what: str) -> None:
    """Raise AskLessError unknown-function where `what` runs a routine that may do more than
    compute.
    """
    if not routines:
        return
    first, more = routines[0], len(routines) - 1
    others = f", and {more} other{'s' if more > 1 else ''} like it" if more else ""
    raise AskLessError(
        "unknown-function",
        f"{what} runs {first.name}, {first.reason}{others}",
        f"remove it; or, if a rollback undoes its effects, use --trust-function {first.name}",
    )


def check_quiet(
    connection: Connection, tables: Sequence[str], limits: Limits, locks: bool = False
) -> None:
    """Raises AskLessError server-busy if someone else is at work on the tables, unless that was
    confirmed.

    `locks`: what is tried would lock a table, which copies would not.
    """
    if limits.even_if_busy:
        return
    text = server_of(connection).busy(connection, tables)
    if text:
        raise AskLessError(
            "server-busy",
            f"this database looks live: {text}",
            "test it on copies, which locks nothing: --use-copies; or confirm with --allow-busy"
            if locks
            else "run the trial on a copy of it, or confirm with --allow-busy",
        )
