"""The client/server protocol of MySQL and MariaDB, version 10, as both servers' documentation describes it."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

from askless.sources.wire import Facts
from askless.sources.wire.mysql.opening import Opening, error_packet
from askless.sources.wire.mysql.session import Session


class MySQL:
    """See the module."""

    port = 3306
    client_first = False
    tls_request = b""
    variables: Mapping[str, str] = MappingProxyType({"host": "MYSQL_HOST", "port": "MYSQL_TCP_PORT"})

    def opening(self, tls: bool = False, watching: bool = False) -> Opening:
        """See `Wire`. TLS is not served here."""
        return Opening(watching)

    def session(self, connection: int, facts: Facts) -> Session:
        """See `Wire`."""
        return Session(connection, facts)

    def refusal(self, text: str) -> bytes:
        """See `Wire`."""
        return error_packet(text)


PROTOCOL = MySQL()
