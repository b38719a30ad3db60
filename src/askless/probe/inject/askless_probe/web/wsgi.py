"""WSGI: one request from the server's call of the application to the close of the response."""

from functools import wraps
from inspect import iscoroutinefunction

from .. import recorder
from . import routes
from .server_hooks import replace_application


def open_request(environ):
    """Begin the request of a WSGI environ; None when nothing records or an outer layer has begun
    it.
    """
    if not recorder.active:
        return None
    around = recorder.around()
    if around is not None and around.kind != "block":
        if around.finish is None:
            return None
        # A client in the same process left the response before this one unclosed; it asks nothing
        # any more.
        around.finish()
    path = environ.get("SCRIPT_NAME", "") + environ.get("PATH_INFO", "")
    method = environ.get("REQUEST_METHOD", "GET")
    query = environ.get("QUERY_STRING", "")
    warm_up = bool(environ.get("HTTP_X_ASK_LESS_WARM_UP"))
    return recorder.begin(
        "http",
        routes.guessed(method, path),
        path + ("?" + query if query else ""),
        warm_up,
        environ.get("HTTP_TRACEPARENT"),
    )


def opened_safely(environ):
    """`open_request`, whatever the environ holds."""
    try:
        return open_request(environ)
    except Exception as error:
        recorder.stop("%s: %s" % (type(error).__name__, error))
        return None


class _Ending:
    """Ends a request once, when it is called."""

    __slots__ = ("opened",)

    def __init__(self, opened):
        self.opened = opened
        opened[0].finish = self

    def __call__(self):
        opened, self.opened = self.opened, None
        if opened is not None:
            recorder.end(*opened)


class _Response:
    """The iterable of a response, passed through; the request ends when it is closed or runs
    dry.
    """

    __slots__ = ("end", "iterable", "iterator")

    def __init__(self, iterable, opened):
        self.iterable = iterable
        self.iterator = iter(iterable)
        self.end = _Ending(opened)

    def __iter__(self):
        return self

    def __next__(self):
        if recorder.memory is None or self.end.opened is None:
            return next(self.iterator)
        try:
            return next(self.iterator)
        finally:
            recorder.memory.note(self.end.opened[0])

    def close(self):
        try:
            close = getattr(self.iterable, "close", None)
            if close is not None:
                close()
        finally:
            self.end()

    def __del__(self):
        self.end()


def recorded(application):
    """The application, each call of it a request."""

    def call(environ, start_response):
        opened = opened_safely(environ)
        if opened is None:
            response = application(environ, start_response)
            if recorder.memory is not None:
                recorder.memory.note_current()
            return response
        return run(application, environ, start_response, opened)

    return call


def run(application, environ, start_response, opened):
    """Call the application inside an open request and see to the request's end."""

    def start_response_seen(status, headers, *rest):
        try:
            opened[0].status = int(status[:3])
        except (ValueError, TypeError):
            pass
        return start_response(status, headers, *rest)

    try:
        response = application(environ, start_response_seen)
    except BaseException:
        recorder.end(*opened, status=500)
        raise
    if recorder.memory is not None:
        recorder.memory.note(opened[0])
    closers = getattr(response, "_resource_closers", None)
    # Django's response, which middleware and tests mean to see as it is
    if isinstance(closers, list):
        closers.append(_Ending(opened))
        return response
    wrapper = environ.get("wsgi.file_wrapper")
    if isinstance(response, (list, tuple)) or (
        isinstance(wrapper, type) and isinstance(response, wrapper)
    ):
        recorder.end(*opened)
        return response
    return _Response(response, opened)


def install_wsgiref(module):
    """Every server built on wsgiref's handlers."""
    replace_application(module.BaseHandler, "run", 1, "application", recorded)


def install_werkzeug(module):
    """Werkzeug's development server, whatever application it serves."""
    replace_application(module.BaseWSGIServer, "__init__", 3, "app", recorded)


def install_gunicorn(module):
    """gunicorn's workers, whatever application they serve.

    What it loads may be of any kind: its workers call it by WSGI or ASGI, or hand it to a server of
    their own.
    """
    plain = module.BaseApplication.wsgi

    @wraps(plain)
    def application(self):
        return _of_either_kind(plain(self))

    module.BaseApplication.wsgi = application


def _of_either_kind(application):
    """A loaded application, recorded if it is a WSGI or an ASGI one; any other object as it is."""
    if not callable(application) or any(
        cls.__module__.startswith("tornado.") for cls in type(application).__mro__
    ):
        return application
    if iscoroutinefunction(application) or iscoroutinefunction(
        getattr(application, "__call__", None)
    ):  # noqa: B004
        from . import asgi

        return asgi.recorded(application)
    recorded_application = recorded(application)

    @wraps(application, updated=())
    def call(*args, **kwargs):
        called = recorded_application if len(args) == 2 and not kwargs else application
        return called(*args, **kwargs)

    return call


def install_waitress(module):
    """waitress, whatever application it serves."""
    replace_application(module, "create_server", 0, "application", recorded)


def install_cheroot(module):
    """cheroot, which serves CherryPy and others."""
    replace_application(module.Server, "__init__", 2, "wsgi_app", recorded)


def install_gevent(module):
    """gevent's WSGI server."""
    replace_application(module.WSGIServer, "__init__", 2, "application", recorded)


def install_eventlet(module):
    """eventlet's WSGI server."""
    replace_application(module, "server", 1, "site", recorded)


def install_hypercorn(module):
    """hypercorn with a WSGI application."""
    replace_application(module.WSGIWrapper, "__init__", 1, "app", recorded)


def install_granian(module):
    """Granian with a WSGI application."""
    replace_application(module, "_callback_wrapper", 0, "callback", recorded)
