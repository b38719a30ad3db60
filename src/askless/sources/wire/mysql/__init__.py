"""The client/server protocol of MySQL and MariaDB, version 10, as both servers' documentation
describes it.
"""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

from askless.sources.wire import Facts
from askless.sources.wire.mysql.handshake import Opening
from askless.sources.wire.mysql.session import Session


class MySQL:
    """See the module."""

    port = 3306
    client_first = False
    tls_request = b""
    variables: Mapping[str, str] = MappingProxyType(
        {"host": "MYSQL_HOST", "port": "MYSQL_TCP_PORT"}
    )

    def opening(self, tls: bool = False, watching: bool = False, far_tls: bool = False) -> Opening:
        """See `Wire`."""
        return Opening(tls, watching, far_tls)

    def session(self, connection: int, facts: Facts) -> Session:
        """See `Wire`."""
        return Session(connection, facts)


PROTOCOL = MySQL()
