"""Django's settings for the applications that run on it."""

from __future__ import annotations

from urllib.parse import urlsplit

import django
from django.conf import settings

ENGINES = {
    "sqlite": "sqlite3",
    "postgresql": "postgresql",
    "postgresql+psycopg": "postgresql",
    "mysql+pymysql": "mysql",
}


def configure(url: str, application: str) -> None:
    """Set Django up with one application, on the database of an SQLAlchemy URL."""
    parts = urlsplit(url)
    database = {"ENGINE": f"django.db.backends.{ENGINES[parts.scheme]}", "NAME": parts.path[1:]}
    if parts.hostname:
        database |= {
            "HOST": parts.hostname,
            "PORT": parts.port,
            "USER": parts.username or "",
            "PASSWORD": parts.password or "",
        }
    if "pymysql" in parts.scheme:
        import pymysql

        pymysql.install_as_MySQLdb()
        pymysql.version_info = (2, 2, 7, "final", 0)  # what Django asks of the driver that it knows
    settings.configure(
        DATABASES={"default": database},
        INSTALLED_APPS=[application],
        DEFAULT_AUTO_FIELD="django.db.models.AutoField",
    )
    django.setup()
