"""Hooks that run once a module of interest has been imported; a module that is never imported costs
nothing.
"""

import sys

# module of the program -> (module of the recorder, function to call with the imported module).
# A new driver, framework or ORM is one file and one line here.
HOOKS = {
    "sqlite3.dbapi2": ("askless_probe.drivers.sqlite", "install"),
    "psycopg": ("askless_probe.drivers.psycopg3", "install"),
    "psycopg2": ("askless_probe.drivers.psycopg2_driver", "install"),
    "asyncpg": ("askless_probe.drivers.asyncpg_driver", "install"),
    "pymysql": ("askless_probe.drivers.mysql_drivers", "install_pymysql"),
    "MySQLdb": ("askless_probe.drivers.mysql_drivers", "install_mysqlclient"),
    "aiosqlite": ("askless_probe.drivers.aiosqlite_driver", "install"),
    "socket": ("askless_probe.web.server_detection", "install"),
    "time": ("askless_probe.waits", "install_time"),
    "asyncio": ("askless_probe.waits", "install_asyncio"),
    "http.client": ("askless_probe.waits", "install_http_client"),
    "httpx": ("askless_probe.waits", "install_httpx"),
    "aiohttp.client": ("askless_probe.waits", "install_aiohttp"),
    "smtplib": ("askless_probe.waits", "install_smtplib"),
    "subprocess": ("askless_probe.waits", "install_subprocess"),
    "pg8000.dbapi": ("askless_probe.drivers.pep249", "install_pg8000"),
    "oracledb": ("askless_probe.drivers.pep249", "install_oracledb"),
    "mysql.connector.cursor": ("askless_probe.drivers.pep249", "install_connector"),
    "mysql.connector.cursor_cext": ("askless_probe.drivers.pep249", "install_connector"),
    "aiomysql.cursors": ("askless_probe.drivers.pep249", "install_aiomysql"),
    "asyncmy": ("askless_probe.drivers.pep249", "install_asyncmy"),
    "apsw": ("askless_probe.drivers.pep249", "install_apsw"),
    "duckdb": ("askless_probe.drivers.pep249", "install_duckdb"),
    "pyodbc": ("askless_probe.drivers.pep249", "install_stand_in"),
    "pymssql": ("askless_probe.drivers.pep249", "install_stand_in"),
    "concurrent.futures.thread": ("askless_probe.context_propagation", "install_executor"),
    "multiprocessing.pool": ("askless_probe.context_propagation", "install_pool"),
    "threading": ("askless_probe.context_propagation", "install_threading"),
    "wsgiref.handlers": ("askless_probe.web.wsgi", "install_wsgiref"),
    "werkzeug.serving": ("askless_probe.web.wsgi", "install_werkzeug"),
    "gunicorn.app.base": ("askless_probe.web.wsgi", "install_gunicorn"),
    "waitress.server": ("askless_probe.web.wsgi", "install_waitress"),
    "uvicorn.config": ("askless_probe.web.asgi", "install_uvicorn"),
    "cheroot.wsgi": ("askless_probe.web.wsgi", "install_cheroot"),
    "gevent.pywsgi": ("askless_probe.web.wsgi", "install_gevent"),
    "eventlet.wsgi": ("askless_probe.web.wsgi", "install_eventlet"),
    "granian.wsgi": ("askless_probe.web.wsgi", "install_granian"),
    "granian.asgi": ("askless_probe.web.asgi", "install_granian"),
    "hypercorn.app_wrappers": ("askless_probe.web.asgi", "install_hypercorn"),
    "http.server": ("askless_probe.web.http_server", "install"),
    "aiohttp.web_server": ("askless_probe.web.aiohttp_app", "install"),
    "sanic.server.protocols.http_protocol": ("askless_probe.web.sanic_app", "install"),
    "tornado.web": ("askless_probe.web.tornado_app", "install"),
    "litestar.app": ("askless_probe.web.litestar_app", "install"),
    "quart": ("askless_probe.web.flask_app", "install_quart"),
    "grpc": ("askless_probe.web.grpc_calls", "install"),
    "grpc.aio": ("askless_probe.web.grpc_calls", "install_aio"),
    "celery.signals": ("askless_probe.jobs.queues", "install_celery"),
    "rq.job": ("askless_probe.jobs.queues", "install_rq"),
    "dramatiq.actor": ("askless_probe.jobs.queues", "install_dramatiq"),
    "huey.api": ("askless_probe.jobs.queues", "install_huey"),
    "apscheduler.executors.base": ("askless_probe.jobs.queues", "install_apscheduler"),
    "arq.worker": ("askless_probe.jobs.queues", "install_arq"),
    "arq.cron": ("askless_probe.jobs.queues", "install_arq_cron"),
    "graphql.execution.execute": ("askless_probe.web.graphql_core", "install_execute"),
    "graphql.execution.executor": ("askless_probe.web.graphql_core", "install_executor"),
    "starlette.applications": ("askless_probe.web.starlette_app", "install"),
    "starlette.routing": ("askless_probe.web.starlette_app", "install_routing"),
    "fastapi.routing": ("askless_probe.web.starlette_app", "install_fastapi"),
    "django.core.handlers.base": ("askless_probe.web.django_app", "install_base"),
    "django.core.handlers.wsgi": ("askless_probe.web.django_app", "install_wsgi"),
    "django.core.handlers.asgi": ("askless_probe.web.django_app", "install_asgi"),
    "django.test.client": ("askless_probe.web.django_app", "install_client"),
    "django.core.management.base": ("askless_probe.web.django_app", "install_commands"),
    "django.db.models.sql.query": ("askless_probe.orm.django_orm", "install_building"),
    "django.db.models.sql.compiler": ("askless_probe.orm.django_orm", "install_compiler"),
    "django.db.backends.base.base": ("askless_probe.orm.django_orm", "install_connecting"),
    "django.db.models.fields.related_descriptors": (
        "askless_probe.orm.django_orm",
        "install_relations",
    ),
    "django.db.models.query_utils": ("askless_probe.orm.django_orm", "install_deferred"),
    "django.db.models.query": ("askless_probe.orm.django_use", "install_iteration"),
    "django.db.models.base": ("askless_probe.orm.django_use", "install_tracking"),
    "django.contrib.contenttypes.fields": ("askless_probe.orm.django_orm", "install_generic"),
    "django.template.base": ("askless_probe.orm.django_templates", "install"),
    "_pytest.config": ("askless_probe.web.pytest_tests", "install"),
    "flask": ("askless_probe.web.flask_app", "install"),
    "sqlalchemy.engine": ("askless_probe.orm.sqlalchemy_engine", "install"),
    "sqlalchemy.orm": ("askless_probe.orm.sqlalchemy_orm", "install"),
}


# What asks a database, serves requests or runs jobs and is not recorded: said, if a program imports
# it.
UNKNOWN = {
    "cx_Oracle": "driver",
    "aiopg": "driver",
    "mariadb": "driver",
    "aioodbc": "driver",
    "pysqlite3": "driver",
    "sqlcipher3": "driver",
    "snowflake.connector": "driver",
    "clickhouse_driver": "driver",
    "clickhouse_connect": "driver",
    "ibm_db": "driver",
    "firebird.driver": "driver",
    "pymongo": "driver",
    "cassandra.cluster": "driver",
    "redshift_connector": "driver",
    "psycopg2cffi": "driver",
    "bjoern": "server",
    "meinheld": "server",
    "robyn": "server",
    "socketify": "server",
    "twisted.web.server": "server",
    "uwsgi": "server",
    "mod_wsgi": "server",
    "japronto": "server",
    "procrastinate": "job queue",
    "taskiq": "job queue",
    "faust": "job queue",
    "luigi": "job queue",
    "saq": "job queue",
}


def _note(name):
    """Remember what is imported, to be said in the capture."""
    from . import recorder

    if name in HOOKS:
        recorder.watched.append(name)
    else:
        recorder.unknown.append("%s %s" % (UNKNOWN[name], name))


def _run(name):
    from . import recorder

    module_name, function = HOOKS[name]
    _note(name)
    try:
        hook_module = __import__(module_name, fromlist=[function])
        getattr(hook_module, function)(sys.modules[name])
    except Exception as error:
        recorder.warn_once("can't record %s: %s: %s" % (name, type(error).__name__, error))


class _Watcher:
    """A finder that finds nothing itself: it lets the others find a watched module and runs the
    hook after it.
    """

    def find_spec(self, name, path=None, target=None):
        if name not in HOOKS and name not in UNKNOWN:
            return None
        for finder in sys.meta_path:
            if finder is self or not hasattr(finder, "find_spec"):
                continue
            spec = finder.find_spec(name, path, target)
            if spec is not None:
                if name in HOOKS:
                    _watch_loader(spec)
                else:
                    _note(name)
                return spec
        return None


class _Loader:
    """Stands in for the loader of one module, and runs the hook after the module's own code.

    It is the module's own affair: the loader after it, which may be a class, or one object for many
    modules, stays as it is. The module never sees it: when its code begins, the loader is in its
    place again.
    """

    def __init__(self, loader, spec):
        self.__dict__.update(_plain=loader, _spec=spec)

    __class__ = property(lambda self: type(self._plain))

    def __getattr__(self, name):
        return getattr(self._plain, name)

    def __setattr__(self, name, value):
        setattr(self._plain, name, value)

    def exec_module(self, module):
        loader, spec = self._plain, self._spec
        if spec.loader is self:
            spec.loader = loader
        if getattr(module, "__loader__", None) is self:
            module.__loader__ = loader
        loader.exec_module(module)
        _run(spec.name)


def _watch_loader(spec):
    """Let the hook of a module run after its own code, if its loader has such a step."""
    if hasattr(spec.loader, "exec_module") and not isinstance(spec.loader, type):
        spec.loader = _Loader(spec.loader, spec)


def install():
    """Watch for the modules of HOOKS; hook at once those that are there already."""
    sys.meta_path.insert(0, _Watcher())
    for name in HOOKS:
        if name in sys.modules:
            _run(name)
    for name in UNKNOWN:
        if name in sys.modules:
            _note(name)
