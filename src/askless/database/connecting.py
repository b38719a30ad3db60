"""Opens a database by its URL, for reading only. Every other library's error is turned into one of
ours here.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from sqlalchemy.engine import URL, Connection, make_url
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, SQLAlchemyError

from askless.core.errors import AskLessError
from askless.core.systems import Meaning, called, system_of
from askless.database.servers import SERVERS, Limits, server_of

EXAMPLE = (
    "sqlite:///harbour.db, postgresql://harbour@127.0.0.1/harbour or "
    "mariadb://harbour@127.0.0.1/harbour"
)
PASSWORD = "ASKLESS_DB_PASSWORD"


def parse_url(text: str) -> URL:
    """A database URL, with the password from the environment where it holds none.

    Raises AskLessError: url-unreadable, system-unsupported, database-missing.
    """
    if "://" not in text:
        if _is_file(text):
            return URL.create("sqlite", database=text)
        raise AskLessError(
            "url-unreadable", f"{text!r} is not a valid database URL", f"write it like {EXAMPLE}"
        )
    try:
        url = make_url(text)
    except (ArgumentError, ValueError):
        raise AskLessError(
            "url-unreadable", "the database URL can't be read", f"write it like {EXAMPLE}"
        ) from None
    name = url.get_backend_name()
    system = called(name, SERVERS)
    if system is None:
        raise AskLessError(
            "system-unsupported",
            f"{name} databases are not supported",
            "write the URL like " + EXAMPLE,
        )
    if name != system.name:
        url = url.set(drivername=system.name)
    if not system.is_file:
        if not url.database:
            raise AskLessError(
                "database-missing",
                f"{shown(url)} does not name a database",
                f"write it like {EXAMPLE}",
            )
        password = os.environ.get(PASSWORD)
        return url.set(password=password) if password and not url.password else url
    if not url.database or url.database == ":memory:":
        raise AskLessError(
            "database-missing",
            "a database in memory can't be opened from here",
            "name a file: " + EXAMPLE,
        )
    return url


def _is_file(text: str) -> bool:
    try:
        return Path(text).is_file()
    except (OSError, ValueError):  # no path at all: too long, or with a zero in it
        return False


def shown(url: URL) -> str:
    """A URL as it may be shown: without its password."""
    if system_of(url.get_backend_name()).is_file:
        return str(url.database)
    return url.set(password=None, query={}).render_as_string()


@contextmanager
def connect(url: URL, limits: Limits | None = None, write: bool = False) -> Iterator[Connection]:
    """A connection in one transaction, which is rolled back; read-only, unless `write`.

    Raises AskLessError: database-missing, database-refuses, driver-missing, timed-out.
    """
    limits = limits or Limits()
    server = server_of(url)
    server.check(url)
    with mapped_errors(shown(url), limits):
        engine = server.engine(url, limits)
        try:
            with engine.connect() as connection:
                server.begin(connection, limits, write)
                known = dict(connection.info)
                try:
                    yield connection
                except Exception:
                    raise
                except BaseException:  # Ctrl-C and the like, perhaps in the middle of a statement
                    server.abandon(engine, known)
                    raise
                connection.rollback()
        finally:
            engine.dispose()


@contextmanager
def mapped_errors(where: str, limits: Limits | None = None) -> Iterator[None]:
    """Turn a database library's errors into ours."""
    try:
        yield
    except ModuleNotFoundError as error:
        extra = next(
            (name for name in map(_driver_of, SERVERS) if name and name == error.name), None
        )
        if extra is None:
            raise
        raise AskLessError(
            "driver-missing",
            f"the driver {extra} is not installed",
            f"install it: pip install 'ask-less[{extra}]'",
        ) from None
    except NoSuchModuleError as error:
        raise AskLessError(
            "driver-missing", f"no driver for this database: {error}", "install its extra"
        ) from None
    except DBAPIError as error:
        raise refusal(error, where, limits) from None
    except (SQLAlchemyError, UnicodeError) as error:  # the second: of a host that is not a name
        raise AskLessError(
            "database-refuses", f"the database {where} can't be used: {error}", "check the URL"
        ) from None


def _driver_of(system: str) -> str:
    return system_of(system).driver


def refusal(error: DBAPIError, where: str, limits: Limits | None = None) -> AskLessError:
    """A driver's error in our words; the server's own words stay in it, its hints and positions do
    not.
    """
    reason = reason_of(error)
    whose = f"the database {where}" if where else "the database"
    meaning = meaning_of(error, reason)
    if meaning is None:
        return AskLessError(
            "database-refuses",
            f"{whose} refuses: {reason}",
            "check the statement and your privileges",
        )
    if meaning.slug == "timed-out" and limits is not None:
        text = f"a statement ran longer than {limits.statement_s:g} s and was stopped"
        return AskLessError(meaning.slug, text, meaning.remedy)
    return AskLessError(meaning.slug, f"{whose} refuses: {reason}", meaning.remedy)


def meaning_of(error: DBAPIError, reason: str) -> Meaning | None:
    """What an error means: each system's codes look different, so that one of them knows it or
    none.
    """
    code = code_of(error)
    for name in SERVERS:
        meaning = system_of(name).meaning(code, "")
        if code and meaning is not None:
            return meaning
    texts = (system_of(name).meaning("", reason) for name in SERVERS)
    return next((meaning for meaning in texts if meaning is not None), None)


def code_of(error: DBAPIError) -> str:
    """The SQLSTATE, the error number or SQLite's name of an error; '' where the driver gives
    none.
    """
    original = error.orig
    arguments: tuple[object, ...] = getattr(original, "args", ())
    if arguments and isinstance(arguments[0], int):  # PyMySQL's errors are (number, text)
        return str(arguments[0])
    return str(
        getattr(original, "sqlstate", None) or getattr(original, "sqlite_errorname", None) or ""
    )


def reason_of(error: DBAPIError) -> str:
    """What the server said, on one line."""
    original: BaseException | None = error.orig
    arguments: tuple[object, ...] = getattr(original, "args", ())
    # PyMySQL's errors are (number, text).
    text = (
        str(arguments[1])
        if len(arguments) == 2 and isinstance(arguments[0], int)
        else str(original)
    )
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    return lines[0] if lines else type(original).__name__
