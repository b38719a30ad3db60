"""WSGI: one request from the server's call of the application to the close of the response."""

from functools import wraps

from .. import recorder
from . import routes


def open_request(environ):
    """Begin the request of a WSGI environ; None when nothing records or an outer layer has begun it."""
    if not recorder.active:
        return None
    around = recorder.around()
    if around is not None and around.kind != "block":
        if around.finish is None:
            return None
        # A client in the same process left the response before this one unclosed; it asks nothing any more.
        around.finish()
    path = environ.get("SCRIPT_NAME", "") + environ.get("PATH_INFO", "")
    method = environ.get("REQUEST_METHOD", "GET")
    query = environ.get("QUERY_STRING", "")
    warm_up = bool(environ.get("HTTP_X_ASK_LESS_WARM_UP"))
    return recorder.begin("http", routes.guessed(method, path), path + ("?" + query if query else ""), warm_up)


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
    """The iterable of a response, passed through; the request ends when it is closed or runs dry."""

    __slots__ = ("end", "iterable", "iterator")

    def __init__(self, iterable, opened):
        self.iterable = iterable
        self.iterator = iter(iterable)
        self.end = _Ending(opened)

    def __iter__(self):
        return self

    def __next__(self):
        return next(self.iterator)

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
            return application(environ, start_response)
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
    closers = getattr(response, "_resource_closers", None)
    if isinstance(closers, list):  # Django's response, which middleware and tests mean to see as it is
        closers.append(_Ending(opened))
        return response
    wrapper = environ.get("wsgi.file_wrapper")
    if isinstance(response, (list, tuple)) or (isinstance(wrapper, type) and isinstance(response, wrapper)):
        recorder.end(*opened)
        return response
    return _Response(response, opened)


def serving(application):
    """The application as a server is given it; None, as some servers take it, stays that."""
    return recorded(application) if callable(application) else application


def install_wsgiref(module):
    """Every server built on wsgiref's handlers."""
    plain = module.BaseHandler.run

    def run_recorded(self, application):
        return plain(self, recorded(application))

    module.BaseHandler.run = run_recorded


def install_werkzeug(module):
    """Werkzeug's development server, whatever application it serves."""
    plain = module.BaseWSGIServer.__init__

    def init(self, host, port, app, *args, **kwargs):
        plain(self, host, port, recorded(app), *args, **kwargs)

    module.BaseWSGIServer.__init__ = init


def install_gunicorn(module):
    """gunicorn's workers, whatever application they serve."""
    plain = module.BaseApplication.wsgi

    @wraps(plain)
    def application(self):
        return recorded(plain(self))

    module.BaseApplication.wsgi = application


def install_waitress(module):
    """waitress, whatever application it serves."""
    plain = module.create_server

    @wraps(plain)
    def create_server(application, *args, **kwargs):
        return plain(recorded(application), *args, **kwargs)

    module.create_server = create_server


def install_cheroot(module):
    """cheroot, which serves CherryPy and others."""
    plain = module.Server.__init__

    @wraps(plain)
    def init(self, bind_addr, wsgi_app, *args, **kwargs):
        plain(self, bind_addr, serving(wsgi_app), *args, **kwargs)

    module.Server.__init__ = init


def install_gevent(module):
    """gevent's WSGI server."""
    plain = module.WSGIServer.__init__

    @wraps(plain)
    def init(self, listener, application=None, *args, **kwargs):
        plain(self, listener, serving(application), *args, **kwargs)

    module.WSGIServer.__init__ = init


def install_hypercorn(module):
    """hypercorn with a WSGI application."""
    plain = module.WSGIWrapper.__init__

    @wraps(plain)
    def init(self, app, *args, **kwargs):
        plain(self, serving(app), *args, **kwargs)

    module.WSGIWrapper.__init__ = init


def install_granian(module):
    """Granian with a WSGI application."""
    plain = module._callback_wrapper

    @wraps(plain)
    def wrapper(callback, *args, **kwargs):
        return plain(serving(callback), *args, **kwargs)

    module._callback_wrapper = wrapper
