"""Which installed packages are the application itself: in a container, all code may lie in
site-packages.

Known from anyone who records (`--app-package`), or by how the program was started: the module after
a console script or `-m`, what a server or a queue's worker was given to serve, Django's settings.
Looked up once, when a line is first in question.
"""

import os
import re
import sys
from importlib.util import find_spec

_SERVED = re.compile(r"^([A-Za-z_]\w*(?:\.\w+)*):[A-Za-z_]")  # package.module:application
_STUB = re.compile(r"^\s*from ([\w.]+) import ", re.M)
_STUB_BYTES_MAX = 2000
_NAMED_BY = ("-A", "--app", "-m", "--module")
# Packages that run applications: as a console script they say nothing of whose code it is.
_RUNNERS = (
    "uvicorn", "gunicorn", "hypercorn", "granian", "waitress", "daphne", "cherrypy", "cheroot",
    "celery", "rq", "huey", "dramatiq", "apscheduler", "arq", "flask", "django", "fastapi",
    "fastapi_cli", "starlette", "litestar", "quart", "sanic", "tornado", "aiohttp", "pytest",
    "_pytest", "py", "unittest", "nose2", "coverage", "hatch", "pip", "setuptools", "invoke",
    "honcho", "IPython", "ipykernel", "jupyter", "notebook", "alembic", "sqlalchemy", "gevent",
    "supervisor", "watchfiles", "askless",
)  # fmt: skip


def stub_of(path):
    """The module that a console script's stub calls; '' where the file is none."""
    try:
        with open(path, "rb") as file:
            text = file.read(_STUB_BYTES_MAX + 1).decode("utf-8", "replace")
    except OSError:
        return ""
    match = _STUB.search(text)
    return match.group(1) if match and len(text) <= _STUB_BYTES_MAX and "sys.exit(" in text else ""


def packages():
    """The application's packages by name, the first part of it each, in the order of how sure they
    are.
    """
    names = [name.strip() for name in os.environ.get("ASKLESS_CODE", "").split(",")]
    argv = list(getattr(sys, "argv", None) or [""])
    main = sys.modules.get("__main__")
    spec = getattr(main, "__spec__", None)
    started = [spec.name if spec is not None and spec.name else stub_of(argv[0])]
    for before, word in zip(argv, argv[1:]):
        served = _SERVED.match(word)
        if served:
            started.append(served.group(1))
        elif before in _NAMED_BY:
            started.append(word)
        elif "=" in word and word.split("=", 1)[0] in _NAMED_BY:
            started.append(word.split("=", 1)[1])
    started.append(os.environ.get("DJANGO_SETTINGS_MODULE", ""))
    started.append(os.environ.get("FLASK_APP", "").split(":")[0])
    names += [name for name in started if name.split(".")[0] not in _RUNNERS]
    tops = [name.split(".")[0] for name in names if re.match(r"[A-Za-z_]\w*", name)]
    return list(dict.fromkeys(tops))


def folders():
    """(package, folder) of those of the packages that can be found. Imports nothing."""
    results = []
    for name in packages():
        try:
            module = sys.modules.get(name)
            spec = getattr(module, "__spec__", None) or find_spec(name)
        except (ImportError, ValueError, AttributeError):
            continue
        if spec is None:
            continue
        places = list(spec.submodule_search_locations or ())
        if not places and spec.origin:
            places = [spec.origin]
        results += [
            (name, place if place.endswith(".py") else place.rstrip(os.sep) + os.sep)
            for place in places
        ]
    return results
