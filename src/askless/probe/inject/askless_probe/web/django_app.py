"""Django: requests under any server or test client, with the URL pattern as the route; management
commands.
"""

from functools import wraps

from .. import recorder
from . import asgi, routes, wsgi

# Commands that serve, or wait for someone to type: what they ask belongs to requests, or to no one.
_ENDLESS = ("runserver", "runserver_plus", "testserver", "shell", "shell_plus", "dbshell", "test")


def pattern_of(route):
    """A URL pattern of Django's as a path: `calls/<int:number>/` and `^calls/(?P<number>\\d+)/$`
    become /calls/{number}/.
    """
    regular = "(?" in route or "^" in route or route.endswith("$")
    return "/" + (routes.from_regex if regular else routes.from_converters)(route).lstrip("/")


def install_base(module):
    """Name the route once Django has resolved it."""
    plain = module.BaseHandler.resolve_request

    @wraps(plain)
    def resolve_request(self, request):
        match = plain(self, request)
        try:
            current = recorder.current.get()
            if current is not None and current.kind == "http":
                pattern = pattern_of(request.resolver_match.route)
                current.route = routes.named(request.method, pattern, request.path_info)
        except Exception as error:
            recorder.warn_once("can't name Django's routes: %s: %s" % (type(error).__name__, error))
        return match

    module.BaseHandler.resolve_request = resolve_request


def install_wsgi(module):
    """Django under a WSGI server."""
    plain = module.WSGIHandler.__call__

    @wraps(plain)
    def call(self, environ, start_response):
        return wsgi.recorded(lambda *both: plain(self, *both))(environ, start_response)

    module.WSGIHandler.__call__ = call


def install_asgi(module):
    """Django under an ASGI server."""
    module.ASGIHandler.__call__ = asgi.recorded_method(module.ASGIHandler.__call__)


def install_client(module):
    """Django's test client: a request of its own, unless a test is recorded as a whole."""
    plain = module.ClientHandler.__call__

    @wraps(plain)
    def call(self, environ):
        opened = wsgi.opened_safely(environ)
        if opened is None:
            return plain(self, environ)
        try:
            response = plain(self, environ)
        except BaseException:
            recorder.end(*opened, status=500)
            raise
        recorder.end(*opened, status=getattr(response, "status_code", 0))
        return response

    module.ClientHandler.__call__ = call
    plain_async = module.AsyncClientHandler.__call__

    @wraps(plain_async)
    async def call_async(self, scope):
        opened = asgi.opened_safely(scope)
        if opened is None:
            return await plain_async(self, scope)
        try:
            response = await plain_async(self, scope)
        except BaseException:
            recorder.end(*opened, status=500)
            raise
        recorder.end(*opened, status=getattr(response, "status_code", 0))
        return response

    module.AsyncClientHandler.__call__ = call_async


def install_commands(module):
    """Management commands: one request each."""
    plain = module.BaseCommand.execute

    @wraps(plain)
    def execute(self, *args, **options):
        name = type(self).__module__.rsplit(".", 1)[-1]
        if not recorder.active or recorder.around() is not None or name in _ENDLESS:
            return plain(self, *args, **options)
        opened = recorder.begin("command", "command " + name)
        try:
            return plain(self, *args, **options)
        finally:
            recorder.end(*opened)

    module.BaseCommand.execute = execute
