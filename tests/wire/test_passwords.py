"""Passwords through the relay, with TLS on neither side, on either and on both: what works without
the relay works with it.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import psycopg
import pytest

from askless.sources.wire.mysql.handshake import Opening
from tests import servers
from tests.wire.test_relay import certificate, relayed

pytestmark = pytest.mark.skipif(shutil.which("openssl") is None, reason="openssl is not installed")


@pytest.fixture(scope="module")
def guarded(
    tmp_path_factory: pytest.TempPathFactory,
) -> Iterator[tuple[servers.Server, Path, Path]]:
    """A PostgreSQL with TLS whose user `keeper` needs a password, by SCRAM; a certificate and its
    key.
    """
    folder = tmp_path_factory.mktemp("tls")
    certificate_file, key = certificate(folder)
    with servers._folder("postgres") as own:
        theirs, theirs_key = own / "server.crt", own / "server.key"
        shutil.copy(certificate_file, theirs)
        shutil.copy(key, theirs_key)
        theirs_key.chmod(0o600)
        if os.geteuid() == 0:
            for path in (own, theirs, theirs_key):
                shutil.chown(path, "postgres")
        settings = {"ssl": "on", "ssl_cert_file": str(theirs), "ssl_key_file": str(theirs_key)}
        with servers.postgresql(more=settings) as server:
            with closing(server.connect("postgres")) as connection:
                connection.execute("SET password_encryption = 'scram-sha-256'")
                connection.execute("CREATE ROLE keeper LOGIN PASSWORD 'low water at nine'")
                (rules,) = connection.execute("SHOW hba_file").fetchone()
                was = Path(rules).read_text()
                Path(rules).write_text("host all keeper all scram-sha-256\n" + was)
                connection.execute("SELECT pg_reload_conf()")
            yield server, certificate_file, key


def ask(port: int, **more: str) -> tuple[bool, bool, str]:
    """Whether TLS is in use here, and at the server, and who the server says we are."""
    who = {
        "host": "127.0.0.1",
        "user": "keeper",
        "password": "low water at nine",
        "dbname": "postgres",
    }
    with closing(psycopg.connect(**who, port=port, **more)) as connection:
        row = connection.execute(
            "SELECT current_user, ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()"
        ).fetchone()
        assert row is not None
        return bool(connection.pgconn.ssl_in_use), bool(row[1]), str(row[0])


@pytest.mark.parametrize("far", [False, True], ids=["plain server", "TLS to the server"])
@pytest.mark.parametrize("near", [False, True], ids=["plain client", "TLS to the client"])
def test_scram(
    near: bool, far: bool, guarded: tuple[servers.Server, Path, Path], tmp_path: Path
) -> None:
    server, cert, key = guarded
    to = f"postgresql://127.0.0.1:{server.port}" + ("?sslmode=require" if far else "")
    served = ["--tls-cert", str(cert), "--tls-key", str(key)] if near else []
    assert ask(server.port, sslmode="require") == (True, True, "keeper")
    with relayed(tmp_path / "c", to, *served) as port:
        if near and far:  # the password is bound to a certificate that the server does not have
            with pytest.raises(psycopg.OperationalError, match="channel_binding=disable"):
                ask(port, sslmode="require")
            assert ask(port, channel_binding="disable", sslmode="require") == (True, True, "keeper")
            assert ask(port) == (
                False,
                True,
                "keeper",
            )  # libpq tries again without TLS where it may
        else:
            assert ask(port) == (near, far, "keeper")


def test_a_password_that_only_one_side_would_encrypt_is_refused_in_so_many_words() -> None:
    """MySQL's caching_sha2_password, if the server does not have the password in its memory."""
    greeting = (
        bytes.fromhex("0a")
        + b"9.7.0\0"
        + b"\1\0\0\0"
        + b"a" * 8
        + b"\0"
        + b"\xff\xff"
        + b"\xff"
        + b"\2\0"
        + b"\xff\xdf"
        + b"\x15"
        + b"\0" * 10
        + b"b" * 12
        + b"\0"
    )
    answer = b"\x8d\xa2\x0a\x00" + b"\0\0\0\1" + b"\xff" + b"\0" * 23 + b"keeper\0" + b"\0"
    opening = Opening(tls=False, watching=False, far_tls=True)
    opening.server(len(greeting).to_bytes(3, "little") + b"\0" + greeting)
    opening.client(len(answer).to_bytes(3, "little") + b"\1" + answer)
    assert opening.state == "far-tls"
    opening.resume()
    step = opening.server(b"\2\0\0\3" + b"\1\4")
    assert opening.state == "refused" and b"TLS on both sides or on neither" in step.to_client
