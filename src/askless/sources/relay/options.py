"""What the options of the relay ask for, checked before anything is begun."""

from __future__ import annotations

import ipaddress
import ssl
from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import parse_qs, unquote, urlsplit

from askless.core.errors import AskLessError
from askless.core.systems import called
from askless.core.whole_numbers import whole_number
from askless.sources import wire
from askless.sources.attribution.grouper import GroupingOptions, apart_of
from askless.sources.relay.forwarding import Address, Settings

_EXAMPLE = "write it like postgresql://127.0.0.1:5432 or mysql://127.0.0.1:3306"
_BACKLOG_LEAST = 4 * 1024**2


class RelayOptions(NamedTuple):
    """All that a relay must know."""

    system: str
    settings: Settings
    apart: GroupingOptions
    backlog: int


def read(values: Mapping[str, Any]) -> RelayOptions:
    """Raises AskLessError: no-server, bad-server, bad-listen, bad-request-by, bad-tls,
    bad-buffer-size.
    """
    system, to, far = _server(values["to"])
    listen = _listen(values["listen"], values["allow_remote"])
    apart = apart_of(values)
    near = _near(values["tls_cert"], values["tls_key"])
    if values["buffer_size"] < _BACKLOG_LEAST:
        raise AskLessError(
            "bad-buffer-size",
            "--buffer-size takes a size from 4MiB",
            "write it like 512MiB, or omit it",
        )
    return RelayOptions(system, Settings(listen, to, near, far), apart, values["buffer_size"])


def _server(url: str | None) -> tuple[str, Address, ssl.SSLContext | None]:
    if not url:
        raise AskLessError("no-server", "--to is missing", "name it with --to: " + _EXAMPLE)
    try:
        parts = urlsplit(url)
        port = parts.port
    except ValueError as error:
        raise AskLessError("bad-server", f"--to takes a URL: {error}", _EXAMPLE) from None
    scheme = parts.scheme.split("+")[0].lower()
    known = called(scheme, wire.REGISTRY)
    if known is None:
        raise AskLessError(
            "bad-server",
            f"--to takes postgresql://, mysql:// or mariadb://, not {scheme or url!r}",
            _EXAMPLE,
        )
    system = known.name
    query = {name: given[-1] for name, given in parse_qs(parts.query).items()}
    protocol = wire.load(system)
    host = unquote(query.get("host", "") or parts.hostname or "127.0.0.1")
    port = port or _port(query.get("port", "")) or protocol.port
    if host.startswith("/"):
        if system == "postgresql" and _is_folder(host):
            host = f"{host.rstrip('/')}/.s.PGSQL.{port}"
        return system, Address("", path=host), None
    socket = query.get("unix_socket", "")
    if socket:
        return system, Address("", path=socket), None
    return system, Address(host, port), _far(query)


def _port(text: str) -> int:
    """The port in a URL's query, as libpq takes it; 0 if there is none."""
    port = whole_number(text) or 0
    if text and not 0 < port < 65536:
        raise AskLessError("bad-server", f"--to takes a URL with a port, not {text!r}", _EXAMPLE)
    return port


def _is_folder(path: str) -> bool:
    try:
        return Path(path).is_dir()
    except (OSError, ValueError):  # no path at all: too long, or with a zero in it
        return False


def _far(query: Mapping[str, str]) -> ssl.SSLContext | None:
    """TLS towards the server, with the modes of libpq (require, verify-ca, verify-full) or of
    MySQL's clients.
    """
    mode = query.get("sslmode", query.get("ssl-mode", "disable")).lower().replace("_", "-")
    if mode in ("disable", "disabled", "allow", "prefer", "preferred"):
        return None
    if mode not in ("require", "required", "verify-ca", "verify-full", "verify-identity"):
        raise AskLessError(
            "bad-tls",
            f"sslmode in --to takes require, verify-ca or verify-full, not {mode!r}",
            _EXAMPLE,
        )
    authority = query.get("sslrootcert") or query.get("ssl-ca") or None
    try:
        context = ssl.create_default_context(cafile=authority)
    except (OSError, ssl.SSLError) as error:
        raise AskLessError(
            "bad-tls", f"can't read {authority}: {error}", "check sslrootcert in --to"
        ) from None
    context.check_hostname = mode in ("verify-full", "verify-identity")
    if mode in ("require", "required"):
        context.verify_mode = ssl.CERT_NONE
    return context


def _listen(word: str, open_: bool) -> Address:
    if word.startswith("/") or word.startswith("./"):
        return Address("", path=word)
    host, _, port = word.rpartition(":")
    host = host.strip("[]") or "127.0.0.1"
    if not port.isdigit() or int(port) > 65535:
        raise AskLessError(
            "bad-listen",
            f"--listen takes HOST:PORT or the path of a socket, not {word!r}",
            "write it like 127.0.0.1:6432",
        )
    if not open_ and not _is_loopback(host):
        raise AskLessError(
            "bad-listen",
            f"{host} is reachable from other machines, and anyone who connects reaches the "
            "database",
            "listen on 127.0.0.1, or use --allow-remote if that is intended",
        )
    return Address(host, int(port))


def _is_loopback(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def _near(certificate: str | None, key: str | None) -> ssl.SSLContext | None:
    if not certificate and not key:
        return None
    if not certificate:
        raise AskLessError("bad-tls", "--tls-key needs a certificate", "name it with --tls-cert")
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    try:
        context.load_cert_chain(certificate, key)
    except (OSError, ssl.SSLError) as error:
        raise AskLessError(
            "bad-tls", f"can't use {certificate}: {error}", "check --tls-cert and --tls-key"
        ) from None
    return context
