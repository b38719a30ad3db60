"""Django's settings, as few as it takes."""

import os

SECRET_KEY = "made up: this office guards nothing"
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "testserver"]
INSTALLED_APPS = ["office"]
ROOT_URLCONF = "office.urls"
WSGI_APPLICATION = None
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": os.environ.get("HARBOUR_DB", "harbour.db"),
    }
}
TEMPLATES = [{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True}]
USE_TZ = False
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "loggers": {"django.server": {"level": "WARNING"}},
}
DEFAULT_AUTO_FIELD = "django.db.models.AutoField"
