"""The frontend/backend protocol of PostgreSQL, versions 3.0 and 3.2, as chapter "Frontend/Backend
Protocol" of the server's documentation describes it.
"""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

from askless.sources.wire import Facts
from askless.sources.wire.postgresql.handshake import TLS_REQUEST, Opening
from askless.sources.wire.postgresql.session import Session


class PostgreSQL:
    """See the module."""

    port = 5432
    client_first = True
    tls_request = TLS_REQUEST
    variables: Mapping[str, str] = MappingProxyType({"host": "PGHOST", "port": "PGPORT"})

    def opening(self, tls: bool = False, watching: bool = False, far_tls: bool = False) -> Opening:
        """See `Wire`."""
        return Opening(tls, watching)

    def session(self, connection: int, facts: Facts) -> Session:
        """See `Wire`."""
        return Session(connection, facts)


PROTOCOL = PostgreSQL()
