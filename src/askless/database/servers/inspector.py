"""A second session next to a connection, for looking into the server's catalogs; it is closed with
the connection.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import sqlalchemy
from sqlalchemy.engine import Connection, Engine

_INSPECTOR = "askless_inspector"


def inspector(connection: Connection, open_session: Callable[[], Connection]) -> Connection:
    """The session next to a connection, opened at its first use."""
    session: Connection | None = connection.info.get(_INSPECTOR)
    if session is None:
        session = connection.info[_INSPECTOR] = open_session()
    return session


def close_inspectors(engine: Engine) -> None:
    """Let the connections of an engine close what they have next to them."""
    sqlalchemy.event.listen(engine, "close", _close)


def _close(_raw: Any, record: Any) -> None:
    session = record.info.pop(_INSPECTOR, None)
    if session is not None:
        session.close()
