"""What must hold before anything is run on somebody's database."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.engine import Connection

from askless.core.errors import AskLessError
from askless.database.servers import Limits, server_of


def check_quiet(connection: Connection, tables: Sequence[str], limits: Limits) -> None:
    """Raises AskLessError server-busy where somebody else is at work on the tables, unless that was confirmed."""
    text = server_of(connection).busy(connection, tables)
    if text and not limits.even_if_busy:
        raise AskLessError(
            "server-busy",
            f"this database looks live: {text}",
            "run the trial on a copy of it, or confirm with --even-if-busy",
        )
