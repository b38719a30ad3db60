"""Opens a database by its URL, for reading only. Every other library's error is turned into one of ours here."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import quote

import sqlalchemy
from sqlalchemy.engine import URL, Connection, make_url
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, SQLAlchemyError

from askless.core.errors import AskLessError

SYSTEMS = {"sqlite": "sqlite"}
EXAMPLE = "sqlite:///harbour.db"


def parse_url(text: str) -> URL:
    """A database URL. Raises AskLessError: url-unreadable, system-unsupported, database-missing."""
    if "://" not in text:
        if Path(text).is_file():
            return URL.create("sqlite", database=text)
        raise AskLessError("url-unreadable", f"{text!r} is no database URL", f"write it like {EXAMPLE}")
    try:
        url = make_url(text)
    except (ArgumentError, ValueError):
        raise AskLessError("url-unreadable", "the database URL can't be read", f"write it like {EXAMPLE}") from None
    if url.get_backend_name() not in SYSTEMS:
        raise AskLessError(
            "system-unsupported",
            f"{url.get_backend_name()} databases are not supported yet",
            f"this version explains and tries on SQLite: {EXAMPLE}",
        )
    if not url.database or url.database == ":memory:":
        raise AskLessError(
            "database-missing", "an SQLite database in memory can't be opened from here", "name a file: " + EXAMPLE
        )
    return url


def file_of(url: URL) -> Path:
    """The file of an SQLite database. Raises AskLessError database-missing."""
    path = Path(url.database or "")
    if not path.is_file():
        raise AskLessError("database-missing", f"there is no database file at {path}", "check the path in --db")
    return path


@contextmanager
def connect(url: URL) -> Iterator[Connection]:
    """A connection that can't write. Raises AskLessError: database-missing, database-refuses."""
    path = file_of(url).resolve()
    uri = f"sqlite:///file:{quote(str(path))}?mode=ro&uri=true"
    with mapped_errors(str(path)):
        engine = sqlalchemy.create_engine(uri, poolclass=sqlalchemy.pool.NullPool)
        try:
            with engine.connect() as connection:
                connection.exec_driver_sql("SELECT name FROM sqlite_schema LIMIT 1").all()
                yield connection
        finally:
            engine.dispose()


@contextmanager
def mapped_errors(where: str) -> Iterator[None]:
    """Turn a database library's errors into ours."""
    try:
        yield
    except NoSuchModuleError as error:
        raise AskLessError("driver-missing", f"no driver for this database: {error}", "install its extra") from None
    except DBAPIError as error:
        reason = str(error.orig).strip()
        if "file is not a database" in reason:
            raise AskLessError(
                "database-refuses", f"{where} is not an SQLite database", "check the path in --db"
            ) from None
        raise AskLessError(
            "database-refuses", f"the database {where} refuses: {reason}", "check the URL and your rights"
        ) from None
    except SQLAlchemyError as error:
        raise AskLessError(
            "database-refuses", f"the database {where} can't be used: {error}", "check the URL"
        ) from None
