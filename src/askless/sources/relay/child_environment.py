"""The environment of a program that is to find the relay in place of its server: what clients and
frameworks read there.
"""

from __future__ import annotations

from collections.abc import Mapping
from urllib.parse import urlsplit

from askless.sources.relay.forwarding import Address

_SCHEMES = {
    "postgresql": ("postgres",),
    "mysql": ("mysql", "mariadb"),
    "mariadb": ("mysql", "mariadb"),
}


def surroundings(
    given: Mapping[str, str], system: str, variables: Mapping[str, str], to: Address, relay: Address
) -> dict[str, str]:
    """The environment with the relay's address: in the variables of the system's own clients, in
    URLs of the server (DATABASE_URL and the like), and in pairs such as DB_HOST and DB_PORT that
    name it.
    """
    result = dict(given)
    host, port = (relay.path, "") if relay.path else (relay.host, str(relay.port))
    for name, value in given.items():
        if "://" in value:
            result[name] = _readdressed(value, system, to, relay)
        elif name.endswith("_PORT") and value == str(to.port) and name[:-5] + "_HOST" in given:
            result[name[:-5] + "_HOST"], result[name] = host, port or value
    if relay.path:
        result[variables["host"]] = relay.path.rpartition("/")[0] or "."
    else:
        result[variables["host"]], result[variables["port"]] = host, port
        result.pop("PGHOSTADDR", None)
    return result


def _readdressed(url: str, system: str, to: Address, relay: Address) -> str:
    """A URL of the server as one of the relay; any other as it is."""
    try:
        parts = urlsplit(url)
        port = parts.port
    except ValueError:
        return url
    if not parts.scheme.startswith(_SCHEMES[system]) or relay.path or parts.hostname is None:
        return url
    if port is not None and to.port and port != to.port:
        return url
    who, at, _ = parts.netloc.rpartition("@")
    return parts._replace(netloc=f"{who}{at}{relay}").geturl()
