"""Which lines of the program asked: walk the stack once a query, resolve lines once a place.

A place on the hot path is a tuple of `(id(code), f_lasti)` pairs flattened, innermost first:
`f_lineno` costs microseconds in long functions, `f_lasti` does not. Code objects seen are kept
alive so that their ids stay theirs.
"""

import dis
import sys
from _thread import get_ident
from contextvars import ContextVar
from itertools import islice

from . import application, forwarding_frames

MAX_FRAMES = 6  # frames of the program kept for one query
MAX_DEPTH = 120  # frames looked at before giving up
_DEEP = (None,) * MAX_DEPTH  # to go over is quicker than to count

_mine = {}  # file name -> whether the program's author wrote it
_codes = {}  # id(code) -> code
_judged = {(): ()}  # key -> the same without lines that only pass a call on
# (key of where a query was built, key of where it was sent) -> the key that stands for both
_begun = {}
_layers = {}  # file name -> whether it is a library's that is not a layer below an application
_watched = {}  # file name -> what tells the template's line of a frame of it
_template_lines = {}  # (file, line) -> itself, kept so that its id stays its own
TEMPLATE = -1  # stands for f_lasti where the id is a template line's
_excluded = ()
# Our own files in whose functions requests begin.
_EDGES = (
    "web/asgi.py", "web/wsgi.py", "web/django_app.py", "web/aiohttp_app.py", "web/sanic_app.py",
    "web/tornado_app.py", "web/http_server.py", "web/grpc_calls.py", "jobs/running.py",
    "jobs/queues.py",
)  # fmt: skip
# in `_mine`: a file of these. What is outside of it called for the request, and is not a part of it
_EDGE = object()
_edges = ("\0",)  # where our own code that begins requests lies
_own = None  # folders of the application, once they are looked for
own_packages = ()  # names of the installed packages that are the application
# Packages between an application and its database or its server, as paths below site-packages.
LAYERS = tuple(
    name if name.endswith(".py") else name + "/"
    for name in (
        "askless", "askless_probe", "sqlalchemy", "flask_sqlalchemy", "sqlmodel", "django/db",
        "django/utils", "django/core", "django/template", "django/middleware", "django/test",
        "psycopg",
        "psycopg_binary", "psycopg_pool", "psycopg2", "asyncpg", "pymysql", "MySQLdb", "aiosqlite",
        "aiomysql", "asyncmy", "pg8000", "mysql", "duckdb", "oracledb", "peewee", "pony",
        "tortoise", "databases", "alembic", "greenlet", "gevent", "asgiref", "anyio", "starlette",
        "uvicorn", "gunicorn", "waitress", "werkzeug", "flask/app.py", "hypercorn", "granian",
        "a2wsgi", "uvloop", "tornado", "aiohttp", "sanic", "cheroot", "celery", "kombu", "billiard",
        "rq", "dramatiq", "huey", "apscheduler", "arq", "click", "pytest", "_pytest", "pluggy",
        "wrapt", "decorator", "tenacity", "backoff", "graphql",
    )
) + ("peewee.py", "greenlet.py", "six.py", "decorator.py")  # fmt: skip
_NEAR = 40  # frames of libraries between a query's building and the program's line
# where the query that is about to be sent was built, if an ORM tells
built = ContextVar("askless_built", default=None)
_built = built.get
lent = {}  # thread id -> place, if a thread works for code that waits in another one


def configure():
    """Learn where the standard library and installed packages live."""
    global _excluded, _edges
    import os

    here = os.path.dirname(os.path.abspath(__file__))
    _edges = tuple(os.path.join(here, *place.split("/")) for place in _EDGES)

    folders = {os.path.dirname(os.path.abspath(__file__)), os.path.dirname(os.__file__)}
    for prefix in {sys.prefix, sys.base_prefix, sys.exec_prefix}:
        folders.add(os.path.join(prefix, "lib", "python%d.%d" % sys.version_info[:2]))
        folders.add(os.path.join(prefix, "lib", "python3"))
    _excluded = tuple(sorted(folder + os.sep for folder in folders))


_TYPED_IN = ("<stdin>", "<template>", "<graphql>")


def is_mine(filename):
    """Whether a file is the program's own: neither standard library, installed package, nor made up
    at run time.

    An installed package that is the application counts as its own; the stub of a console script
    never does.
    """
    global _own, own_packages
    if filename.startswith(_edges):
        _mine[filename] = _EDGE
        return _EDGE
    installed = "site-packages" in filename or "dist-packages" in filename
    if _own is None and installed:
        folders = application.folders()
        own_packages = tuple(
            dict.fromkeys(name for name, folder in folders if "-packages" in folder)
        )
        _own = tuple(folder for _, folder in folders)
    if installed:
        known = filename.startswith(_own)
    elif filename.startswith("<"):
        # The last is the interactive prompt of Python 3.13 and newer.
        known = filename in _TYPED_IN or filename.startswith("<python-input")
        # Of `python -c`; in any other program it is code that a library has made up.
        if filename == "<string>":
            known = not hasattr(sys.modules.get("__main__"), "__file__")
    else:
        known = not filename.startswith(_excluded)
        if known and filename.replace("\\", "/").rsplit("/", 2)[-2:-1] in (["bin"], ["Scripts"]):
            known = not application.stub_of(filename)
    if len(_mine) > 20000:
        _mine.clear()
        _mine.update(_watched)
    _mine[filename] = known
    return known


def watch(filename, line_of):
    """Frames of this file stand for lines of something else, templates say: `line_of(frame)` gives
    (file, line) or (file, line, function), or None.
    """
    _watched[filename] = _mine[filename] = line_of


def _template(frame, line_of, key, any_owner=False):
    """The key of a template's line: nothing if the frame renders none, or the line around one that
    is there.
    """
    line = line_of(frame)
    if line is None or not (any_owner or _mine.get(line[0]) or is_mine(line[0])):
        return ()
    if key and key[-1] == TEMPLATE and _codes[key[-2]][0][0] == line[0]:
        return ()
    place = _template_lines.setdefault(line, line)
    ident = id(place)
    _codes[ident] = (place, None)
    return (ident, TEMPLATE)


def walk(frame, mine=_mine, codes=_codes, judged=_judged):
    """The key of the program's frames from `frame` outwards: (id(code), f_lasti, id(code), f_lasti,
    ...).
    """
    innermost = frame
    key = []
    for _ in _DEEP:
        if frame is None:
            break
        code = frame.f_code
        try:
            known = mine[code.co_filename]
        except KeyError:
            known = is_mine(code.co_filename)
        if known:
            if known is True:
                ident = id(code)
                if ident not in codes:
                    remember(code, frame)
                key.append(ident)
                key.append(frame.f_lasti)
            elif known is _EDGE:
                break
            else:
                key += _template(frame, known, key)
            if len(key) == 2 * MAX_FRAMES:
                break
        frame = frame.f_back
    key = tuple(key)
    if lent:
        key = (key + lent.get(get_ident(), ()))[: 2 * MAX_FRAMES]
    try:
        key = judged[key] or library(innermost) or key
    except KeyError:
        key = _judge(key, innermost)
    first = _built()
    return key if first is None else _begun_at(first, key)


def _judge(key, innermost):
    return judge(key) or library(innermost) or key


def nearest(frame):
    """The key of the innermost frame of the program's, else of a library's; None if there is
    neither nearby.
    """
    innermost = frame
    for _ in range(_NEAR):
        if frame is None:
            break
        code = frame.f_code
        known = _mine.get(code.co_filename)
        if known is None:
            known = is_mine(code.co_filename)
        if known is True:
            if id(code) not in _codes:
                remember(code, frame)
            return id(code), frame.f_lasti
        # an import is not a call of the program's
        if known is _EDGE or code.co_filename.startswith("<frozen importlib"):
            break
        if known:
            line = _template(frame, known, ())
            if line:  # a library's template is no line of the program's
                return line
        frame = frame.f_back
    return library(innermost)[:2] or None


def aside(frame):
    """Whether a library's code, no layer below an application's, is between a frame and the nearest
    of the program's.
    """
    between = False
    for _ in range(_NEAR):
        if frame is None:
            return False
        name = frame.f_code.co_filename
        known = _mine.get(name)
        if known is None:
            known = is_mine(name)
        if known is _EDGE or name.startswith("<frozen importlib"):
            return False
        if known:
            return between
        if not between:
            layer = _layers.get(name)
            if layer is None:
                layer = _layers[name] = _is_library(name)
            between = layer is True
        frame = frame.f_back
    return False


def _begun_at(first, key):
    """The key of a query that was built at another line than it is sent from: the line to change is
    the first.
    """
    if not key or key[:2] == first:
        return key
    result = _begun.get((first, key))
    if result is None:
        result = key
        try:
            begun, sent = resolve(*first), resolve(key[0], key[1])
            if (
                begun[:2] != sent[:2]
                and judge(first)
                and (_mine.get(begun[0]) or not _mine.get(sent[0]))
            ):
                result = first + key[: 2 * MAX_FRAMES - 2]
        except Exception:
            pass
        if len(_begun) > 20000:
            _begun.clear()
        _begun[first, key] = result
    return result


class _AsIs(dict):
    """Judges nothing."""

    def __missing__(self, key):
        return key


_as_is = _AsIs()


def path(frame):
    """The key of all of the program's frames, those that only pass a call on as well: for anyone
    who lends it.
    """
    return walk(frame, judged=_as_is)


def judge(key):
    """The key without the innermost lines that only pass a call on: () where there are not
    others.
    """
    begin = 0
    try:
        while (
            begin < len(key)
            and key[begin + 1] != TEMPLATE
            and _passes_on(key[begin], key[begin + 1])
        ):
            begin += 2
    except Exception:  # sources are anything
        pass
    if len(_judged) > 20000:
        _judged.clear()
        _judged[()] = ()
    result = _judged[key] = key[begin:]
    return result


def _passes_on(ident, lasti):
    code, template = _codes[ident]
    if template is not None:
        return False
    span = None
    if hasattr(code, "co_positions"):
        first, last, begin, end = next(islice(code.co_positions(), lasti // 2, None), (None,) * 4)
        if None not in (first, last, begin, end):
            span = first, last, begin, end
    return forwarding_frames.passes_on(code, _line_of(code, lasti), span)


def library(frame):
    """Where all code is a library's: the nearest frames that are neither an ORM's, a driver's nor
    the standard library's.
    """
    key = ()
    depth = 0
    while frame is not None and depth < MAX_DEPTH and len(key) < 2 * MAX_FRAMES:
        code = frame.f_code
        name = code.co_filename
        known = _layers.get(name)
        if known is None:
            known = _layers[name] = _is_library(name)
        if known is _EDGE:
            break
        if name in _watched:
            key += _template(frame, _watched[name], key, True)
        elif known:
            if id(code) not in _codes:
                remember(code, frame)
            key += (id(code), frame.f_lasti)
        frame = frame.f_back
        depth += 1
    return key


def _is_library(filename):
    """Whether a file belongs to a package that may well be the application, or the nearest that
    there is to one.
    """
    if filename.startswith(_edges):
        return _EDGE
    name = filename.replace("\\", "/")
    for folder in ("/site-packages/", "/dist-packages/"):
        if folder in name:
            package = name.rsplit(folder, 1)[1]
            return not package.startswith(LAYERS)
    return False


def remember(code, frame):
    """Keep a code object, and for a template's compiled code its map from Python lines to template
    lines.
    """
    template = None
    try:
        template = frame.f_globals.get("__jinja_template__")
    except Exception:
        pass
    _codes[id(code)] = (code, template)


def resolve(ident, lasti):
    """(file, line, function) of one frame of a key."""
    code, template = _codes[ident]
    if lasti == TEMPLATE:
        return code if len(code) == 3 else (*code, "template")
    line = _line_of(code, lasti)
    if template is not None:
        try:
            return code.co_filename, template.get_corresponding_lineno(line), "template"
        except Exception:
            pass
    return code.co_filename, line, code.co_name


def _line_of(code, lasti):
    if hasattr(code, "co_lines"):  # Python 3.10 and newer
        for start, end, line in code.co_lines():
            if start <= lasti < end and line is not None:
                return line
        return code.co_firstlineno
    result = code.co_firstlineno
    for start, line in dis.findlinestarts(code):
        if start > lasti:
            break
        result = line
    return result
