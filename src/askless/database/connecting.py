"""Opens a database by its URL, for reading only. Every other library's error is turned into one of ours here."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from sqlalchemy.engine import URL, Connection, make_url
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, SQLAlchemyError

from askless.core.errors import AskLessError
from askless.database.servers import SERVERS, Limits, server_of
from askless.database.servers.sqlite import file_of

EXAMPLE = "sqlite:///harbour.db, postgresql://harbour@127.0.0.1/harbour or mariadb://harbour@127.0.0.1/harbour"
PASSWORD = "ASKLESS_DB_PASSWORD"
DRIVERS = {"postgresql": "psycopg", "mysql": "pymysql", "mariadb": "pymysql"}  # backend -> extra, named as its driver


def parse_url(text: str) -> URL:
    """A database URL, with the password from the environment where it holds none.

    Raises AskLessError: url-unreadable, system-unsupported, database-missing.
    """
    if "://" not in text:
        if Path(text).is_file():
            return URL.create("sqlite", database=text)
        raise AskLessError("url-unreadable", f"{text!r} is no database URL", f"write it like {EXAMPLE}")
    try:
        url = make_url(text)
    except (ArgumentError, ValueError):
        raise AskLessError("url-unreadable", "the database URL can't be read", f"write it like {EXAMPLE}") from None
    name = url.get_backend_name()
    if name == "postgres":
        url = url.set(drivername="postgresql")
    elif name not in SERVERS:
        raise AskLessError("system-unsupported", f"{name} databases are not supported", "write the URL like " + EXAMPLE)
    if url.get_backend_name() != "sqlite":
        if not url.database:
            raise AskLessError("database-missing", f"{shown(url)} names no database", f"write it like {EXAMPLE}")
        password = os.environ.get(PASSWORD)
        return url.set(password=password) if password and not url.password else url
    if not url.database or url.database == ":memory:":
        raise AskLessError(
            "database-missing", "an SQLite database in memory can't be opened from here", "name a file: " + EXAMPLE
        )
    return url


def shown(url: URL) -> str:
    """A URL as it may be shown: without its password."""
    if url.get_backend_name() == "sqlite":
        return str(url.database)
    return url.set(password=None, query={}).render_as_string()


@contextmanager
def connect(url: URL, limits: Limits | None = None) -> Iterator[Connection]:
    """A connection in one read-only transaction, which is rolled back.

    Raises AskLessError: database-missing, database-refuses, driver-missing, timed-out.
    """
    if url.get_backend_name() == "sqlite":
        file_of(url)
    limits = limits or Limits()
    with mapped_errors(shown(url), limits):
        server = server_of(url)
        engine = server.engine(url, limits)
        try:
            with engine.connect() as connection:
                server.begin(connection, limits)
                yield connection
                connection.rollback()
        finally:
            engine.dispose()


# What a server's own words mean -> slug and remedy. The first that stands in its message.
_MEANINGS = (
    (("file is not a database",), "database-refuses", "it is not an SQLite database: check the path in --db"),
    (("connection refused", "can't connect", "could not connect", "connection timeout", "timeout expired", "name or service", "failed to resolve"),
     "server-away", "is it running there, and does it listen? check host and port in --db"),
    (("password authentication failed", "(using password", "no password supplied", "fe_sendauth"), "password-refused",
     f"give the password in the environment variable {PASSWORD}, in the URL, or in the server's own password file (~/.pgpass, ~/.my.cnf)"),
    (("permission denied", "command denied", "access denied", "must be owner"), "no-rights", "ask for the right to it, or name another user in --db"),
    (("statement timeout", "max_statement_time", "maximum statement execution time", "interrupted"), "timed-out",
     "allow it more seconds with --timeout, or ask for less"),
    (("lock timeout", "lock wait timeout"), "locked", "another session holds the table: try again when it is done"),
    (("could not determine data type", "operator does not exist"), "type-unknown",
     "say the type in the statement: CAST(... AS integer)"),
    (("does not exist", "no such table", "no such column", "doesn't exist", "unknown column", "unknown database", "unknown table"), "not-there",
     "does the capture belong to this database? check --db"),
    (("server closed the connection", "lost connection", "gone away", "connection was killed", "terminating connection", "connection is lost", "consuming input failed"),
     "connection-lost", "what was begun is rolled back by the server; try again"),
    (("read-only transaction", "read only transaction", "readonly database"), "writes-refused", "Ask Less only reads: name a SELECT"),
)  # fmt: skip


@contextmanager
def mapped_errors(where: str, limits: Limits | None = None) -> Iterator[None]:
    """Turn a database library's errors into ours."""
    try:
        yield
    except ModuleNotFoundError as error:
        extra = next((extra for extra in DRIVERS.values() if extra == error.name), None)
        if extra is None:
            raise
        raise AskLessError(
            "driver-missing", f"the driver {extra} is not installed", f"install it: pip install 'ask-less[{extra}]'"
        ) from None
    except NoSuchModuleError as error:
        raise AskLessError("driver-missing", f"no driver for this database: {error}", "install its extra") from None
    except DBAPIError as error:
        raise refusal(error, where, limits) from None
    except SQLAlchemyError as error:
        raise AskLessError(
            "database-refuses", f"the database {where} can't be used: {error}", "check the URL"
        ) from None


def refusal(error: DBAPIError, where: str, limits: Limits | None = None) -> AskLessError:
    """A driver's error in our words; the server's own words stay in it, its hints and positions do not."""
    reason = reason_of(error)
    low = reason.lower()
    whose = f"the database {where}" if where else "the database"
    for signs, slug, remedy in _MEANINGS:
        if any(sign in low for sign in signs):
            if slug == "timed-out" and limits is not None:
                return AskLessError(
                    slug, f"a statement ran longer than {limits.statement_s:g} s and was stopped", remedy
                )
            return AskLessError(slug, f"{whose} refuses: {reason}", remedy)
    return AskLessError("database-refuses", f"{whose} refuses: {reason}", "check the statement and your rights")


def reason_of(error: DBAPIError) -> str:
    """What the server said, on one line."""
    original: BaseException | None = error.orig
    arguments: tuple[object, ...] = getattr(original, "args", ())
    # PyMySQL's errors are (number, text).
    text = str(arguments[1]) if len(arguments) == 2 and isinstance(arguments[0], int) else str(original)
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    return lines[0] if lines else type(original).__name__
