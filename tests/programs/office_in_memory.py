"""An empty office on Django, in memory: tests' programs import this ahead of `office.models`."""

import django
from django.conf import settings

settings.configure(
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}},
    INSTALLED_APPS=["office"],
    DEFAULT_AUTO_FIELD="django.db.models.AutoField",
)
django.setup()

from django.db import connection
from office.models import PortCall, Tug, TugJob, Vessel

with connection.schema_editor() as editor:
    for model in (Vessel, Tug, PortCall, TugJob):
        editor.create_model(model)
