"""Requests, jobs and calls of servers and queues, each run for real: one for each, under its name,
with its own queries.
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest

from askless.capture.reading import read
from askless.core.records.model import Request
from tests.conftest import run
from tests.probe.test_web import LIFESPAN
from tests.servers import free_port

Record = Callable[..., Path]

OFFICE = """
import sqlite3
def ask(number):
    db = sqlite3.connect(":memory:", check_same_thread=False)
    for _ in range(3):
        db.execute("SELECT ? + 0", (number,)).fetchone()
    return "call %s" % number
def wsgi(environ, start_response):
    start_response("200 OK", [("Content-Type", "text/plain")])
    return [ask(int(environ["PATH_INFO"].split("/")[-1])).encode()]
async def asgi(scope, receive, send):
LIFESPAN    body = ask(int(scope["path"].split("/")[-1])).encode()
    await send({"type": "http.response.start", "status": 200, "headers": []})
    await send({"type": "http.response.body", "body": body})
""".replace("LIFESPAN", LIFESPAN)

IN_ONE_PROCESS = """
import asyncio, socket, threading, http.client
import cheroot.wsgi, quart, tornado.web
from aiohttp import web
from hypercorn.asyncio import serve
from hypercorn.config import Config
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from litestar import Litestar, get
from office import ask, asgi, wsgi

class Call(tornado.web.RequestHandler):
    async def get(self, number):
        await asyncio.sleep(0)
        self.write(ask(int(number)))

async def aiohttp_call(request):
    await asyncio.sleep(0)
    return web.Response(text=ask(int(request.match_info["number"])))

quart_app = quart.Quart("harbour")
@quart_app.get("/quart/<int:number>")
async def quart_call(number):
    await asyncio.sleep(0)
    return ask(number)

@get("/litestar/{number:int}", sync_to_thread=False)
def litestar_call(number: int) -> str:
    return ask(number)

class Plain(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def do_GET(self):
        body = ask(int(self.path.split("/")[-1])).encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)
    def log_message(self, *words):
        pass

def free():
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        return taken.getsockname()[1]

def visit(ports):
    for name, port in ports.items():
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
        for number in range(3):
            connection.request("GET", "/%s/%d" % (name, number))
            assert connection.getresponse().read() == b"call %d" % number, name
        connection.close()

async def main():
    names = ["tornado", "aiohttp", "quart", "litestar", "asgi", "wsgi", "cheroot", "plain"]
    ports = {name: free() for name in names}
    listening = tornado.web.Application([(r"/tornado/(\\d+)", Call)]).listen(ports["tornado"], "127.0.0.1")
    application = web.Application()
    application.router.add_get("/aiohttp/{number:[0-9]+}", aiohttp_call)
    runner = web.AppRunner(application)
    await runner.setup()
    await web.TCPSite(runner, "127.0.0.1", ports["aiohttp"]).start()
    stop = asyncio.Event()
    served = {"quart": quart_app, "litestar": Litestar([litestar_call]), "asgi": asgi, "wsgi": wsgi}
    tasks = []
    for name, app in served.items():
        config = Config()
        config.bind, config.loglevel = ["127.0.0.1:%d" % ports[name]], "ERROR"
        tasks.append(asyncio.create_task(serve(app, config, shutdown_trigger=stop.wait)))
    threaded = cheroot.wsgi.Server(("127.0.0.1", ports["cheroot"]), wsgi)
    threaded.prepare()
    threading.Thread(target=threaded.serve, daemon=True).start()
    plain = ThreadingHTTPServer(("127.0.0.1", ports["plain"]), Plain)
    threading.Thread(target=plain.serve_forever, daemon=True).start()
    while not all(not socket.socket().connect_ex(("127.0.0.1", port)) for port in ports.values()):
        await asyncio.sleep(0.01)
    await asyncio.to_thread(visit, ports)
    stop.set()
    await asyncio.gather(*tasks)
    await runner.cleanup()
    listening.stop()
    threaded.stop()
    plain.shutdown()
asyncio.run(main())
"""


def office(folder: Path) -> None:
    (folder / "office.py").write_text(OFFICE)


def counted(folder: Path) -> dict[str, list[tuple[int, int]]]:
    """Of each route, its requests: how many queries each has, and how many different values these."""
    routes: dict[str, list[tuple[int, int]]] = {}
    for request in read(folder):
        if request.warm_up:
            continue
        values = {request.parameters[i] for i in range(len(request))}
        routes.setdefault(request.route, []).append((len(request), len(values)))
    return routes


def test_servers_that_share_a_process(record: Record, tmp_path: Path) -> None:
    office(tmp_path)
    routes = counted(record(IN_ONE_PROCESS))
    assert routes == {
        "GET /tornado/{1}": [(3, 1)] * 3,
        "GET /aiohttp/{number}": [(3, 1)] * 3,
        "GET /quart/{number}": [(3, 1)] * 3,
        "GET /litestar/{number}": [(3, 1)] * 3,
        "GET /asgi/{id}": [(3, 1)] * 3,
        "GET /wsgi/{id}": [(3, 1)] * 3,
        "GET /cheroot/{id}": [(3, 1)] * 3,
        "GET /plain/{id}": [(3, 1)] * 3,
    }


SANIC = """
import sys
from sanic import Sanic, text
from office import ask
app = Sanic("harbour")
@app.get("/calls/<number:int>")
async def call(request, number):
    return text(ask(number))
if __name__ == "__main__":
    app.run(host="127.0.0.1", port=int(sys.argv[1]), single_process=True, motd=False)
"""
GEVENT = """
import sys
from gevent import monkey
monkey.patch_all()
from gevent.pywsgi import WSGIServer
from office import wsgi
WSGIServer(("127.0.0.1", int(sys.argv[1])), wsgi, log=None).serve_forever()
"""
MOUNTED = """
import sys, uvicorn
from a2wsgi import WSGIMiddleware
from fastapi import FastAPI
from flask import Flask
from office import ask
inner = Flask("inner")
@inner.get("/calls/<int:number>")
def call(number):
    return ask(number)
app = FastAPI()
app.mount("/", WSGIMiddleware(inner))
if __name__ == "__main__":
    uvicorn.run(app, port=int(sys.argv[1]), log_level="warning")
"""
ALONE = {
    "sanic": ([sys.executable, "sanic_app.py", "PORT"], "GET /calls/{number}"),
    "gevent": ([sys.executable, "gevent_app.py", "PORT"], "GET /calls/{id}"),
    "granian ASGI": ([sys.executable, "-m", "granian", "--port", "PORT", "--interface", "asgi", "office:asgi"], "GET /calls/{id}"),
    "granian WSGI": ([sys.executable, "-m", "granian", "--port", "PORT", "--interface", "wsgi", "office:wsgi"], "GET /calls/{id}"),
}  # fmt: skip


@pytest.mark.parametrize("name", ALONE)
def test_servers_that_want_a_process(name: str, tmp_path: Path) -> None:
    office(tmp_path)
    (tmp_path / "sanic_app.py").write_text(SANIC)
    (tmp_path / "gevent_app.py").write_text(GEVENT)
    port = str(free_port())
    words, route = ALONE[name]
    command = [port if word == "PORT" else word for word in words]
    url = f"http://127.0.0.1:{port}/calls/"
    ran = run(
        "capture", "app", "-o", tmp_path / "c", "--visit", url + "7", "--visit", url + "8", "--repeat", 2, "--", *command,
        cwd=tmp_path,
    )  # fmt: skip
    assert ran.code == 0, ran.err
    assert counted(tmp_path / "c") == {route: [(3, 1)] * 4}


KEPT_ALIVE = """
import asyncio, http.client, socket, threading, uvicorn
from mounted import app
with socket.socket() as taken:
    taken.bind(("127.0.0.1", 0))
    port = taken.getsockname()[1]
server = uvicorn.Server(uvicorn.Config(app, port=port, log_level="warning", http="h11"))
thread = threading.Thread(target=server.run)
thread.start()
while socket.socket().connect_ex(("127.0.0.1", port)):
    pass
# Requests of one connection that are there before the one ahead has been answered.
for connection in range(3):
    client = socket.create_connection(("127.0.0.1", port))
    asked = ["GET /calls/%d HTTP/1.1\\r\\nHost: harbour\\r\\n\\r\\n" % number for number in range(5)]
    client.sendall("".join(asked).encode())
    answers = b""
    while answers.count(b"HTTP/1.1 200") < 5 or not answers.endswith(b"call 4"):
        answers += client.recv(65536)
    client.close()
server.should_exit = True
thread.join()
"""


def test_a_connection_that_is_kept_alive_keeps_its_requests_apart(
    record: Record, tmp_path: Path
) -> None:
    """The task of the next one starts inside the context of the one before it."""
    office(tmp_path)
    (tmp_path / "mounted.py").write_text(MOUNTED)
    assert counted(record(KEPT_ALIVE)) == {"GET /calls/{number}": [(3, 1)] * 15}


JOBS = """
import asyncio, threading
import celery, celery.contrib.testing.tasks, dramatiq, fakeredis, huey, office, rq
from apscheduler.schedulers.background import BackgroundScheduler
from arq import cron
from arq.worker import func
from celery.contrib.testing.worker import start_worker
from dramatiq.brokers.stub import StubBroker
from office import ask

app = celery.Celery("harbour", broker="memory://", backend="cache+memory://")
@app.task(name="tariffs.nightly")
def nightly(number):
    return ask(number)
@app.task(name="tariffs.all")
def everything():
    ask(8)
    return nightly.apply(args=(9,)).get(disable_sync_subtasks=False)  # eager: part of the job around it
with start_worker(app, perform_ping_check=False, pool="threads", concurrency=2):
    for result in [nightly.delay(number) for number in range(3)] + [everything.delay()]:
        result.get(timeout=20)

redis = fakeredis.FakeStrictRedis()
queue = rq.Queue(connection=redis)
queue.enqueue("office.ask", 1)
rq.SimpleWorker([queue], connection=redis).work(burst=True, logging_level="ERROR")

broker = StubBroker()
dramatiq.set_broker(broker)
@dramatiq.actor
def clearance(number):
    ask(number)
broker.emit_after("process_boot")
worker = dramatiq.Worker(broker, worker_timeout=100)
worker.start()
clearance.send(2)
broker.join("default")
worker.join()
worker.stop()

memory = huey.MemoryHuey()
@memory.task()
def pilotage(number):
    return ask(number)
pilotage(3)
memory.execute(memory.dequeue())

done = threading.Event()
def tides():
    ask(4)
scheduler = BackgroundScheduler()
scheduler.add_listener(lambda event: done.set(), 1 << 12)
scheduler.add_job(tides)
scheduler.start()
done.wait(20)
scheduler.shutdown()

async def berths(context):
    return ask(5)
asyncio.run(func(berths).coroutine({}))
asyncio.run(cron(berths, name="berths at six", hour=6).coroutine({}))
"""


def test_jobs(record: Record, tmp_path: Path) -> None:
    office(tmp_path)
    folder = record(JOBS)
    assert counted(folder) == {
        "job tariffs.nightly": [(3, 1)] * 3,
        "job tariffs.all": [(6, 2)],
        "job office.ask": [(3, 1)],
        "job clearance": [(3, 1)],
        "job pilotage": [(3, 1)],
        "job tides": [(3, 1)],
        "job berths": [(3, 1)],
        "job berths at six": [(3, 1)],
    }
    assert {request.kind for request in read(folder)} == {"job"}


GRPC = """
import asyncio, grpc
from concurrent import futures
from office import ask
def one(request, context):
    return ask(1).encode()
def many(request, context):
    for number in range(2):
        yield ask(number).encode()
async def one_later(request, context):
    return ask(1).encode()
async def many_later(request, context):
    for number in range(2):
        yield ask(number).encode()
async def written(request, context):
    for number in range(2):
        await context.write(ask(number).encode())
kinds = grpc.unary_unary_rpc_method_handler, grpc.unary_stream_rpc_method_handler
handler = grpc.method_handlers_generic_handler("Calls", {"Get": kinds[0](one), "List": kinds[1](many)})
server = grpc.server(futures.ThreadPoolExecutor(2), (handler,))
port = server.add_insecure_port("127.0.0.1:0")
server.start()
with grpc.insecure_channel("127.0.0.1:%d" % port) as channel:
    assert channel.unary_unary("/Calls/Get")(b"") == b"call 1"
    assert list(channel.unary_stream("/Calls/List")(b"")) == [b"call 0", b"call 1"]
server.stop(0)
async def main():
    rows = {"Get": kinds[0](one_later), "List": kinds[1](many_later), "Write": kinds[1](written), "Plain": kinds[0](one)}
    server = grpc.aio.server()
    server.add_generic_rpc_handlers((grpc.method_handlers_generic_handler("Later", rows),))
    port = server.add_insecure_port("127.0.0.1:0")
    await server.start()
    async with grpc.aio.insecure_channel("127.0.0.1:%d" % port) as channel:
        assert await channel.unary_unary("/Later/Get")(b"") == b"call 1"
        assert [item async for item in channel.unary_stream("/Later/List")(b"")] == [b"call 0", b"call 1"]
        assert [item async for item in channel.unary_stream("/Later/Write")(b"")] == [b"call 0", b"call 1"]
        assert await channel.unary_unary("/Later/Plain")(b"") == b"call 1"
    await server.stop(0)
asyncio.run(main())
"""


def test_grpc_calls(record: Record, tmp_path: Path) -> None:
    office(tmp_path)
    one, two = [(3, 1)], [(6, 2)]
    assert counted(record(GRPC)) == {
        "gRPC /Calls/Get": one, "gRPC /Calls/List": two, "gRPC /Later/Get": one, "gRPC /Later/List": two,
        "gRPC /Later/Write": two, "gRPC /Later/Plain": one,
    }  # fmt: skip


GRAPHQL = """
import sqlite3, threading, urllib.request
from flask import Flask, request
from graphql import build_schema, graphql_sync
from lazy import Vessel  # an installed package's attribute that asks, as an ORM's does
schema = build_schema("type Vessel { name: String } type Query { vessels: [Vessel] }")
app = Flask("harbour")
@app.post("/graphql")
def answer():
    result = graphql_sync(schema, request.get_data(as_text=True), {"vessels": [Vessel(n) for n in range(4)]})
    return {"data": result.data}
client = app.test_client()
for asked in ("query Fleet {\\n  vessels {\\n    name\\n  }\\n}", "{ vessels { name } }"):
    assert client.post("/graphql", data=asked).get_json()["data"]["vessels"][3] == {"name": "Tern 3"}
"""
LAZY = """
import sqlite3
db = sqlite3.connect(":memory:", check_same_thread=False)
class Vessel:
    def __init__(self, number):
        self.number = number
    @property
    def name(self):
        return db.execute("SELECT 'Tern ' || ?", (self.number,)).fetchone()[0]
"""


def test_graphql_operations_and_paths(record: Record, tmp_path: Path) -> None:
    library = tmp_path / "site-packages"
    library.mkdir()
    (library / "lazy.py").write_text(LAZY)
    requests: list[Request] = list(
        read(record("import sys; sys.path.insert(0, 'site-packages')\n" + GRAPHQL))
    )
    assert Counter(request.route for request in requests) == {
        "POST /graphql query Fleet": 1,
        "POST /graphql query {vessels}": 1,
    }
    for request, line in zip(requests, (3, 1), strict=True):
        place = request.place(0)
        assert place is not None and (place.file, place.line, place.function) == (
            "<graphql>",
            line,
            "vessels.name",
        )
        assert place.caller is not None and place.caller.function == "answer"


GUNICORN = {
    "sync": ["wsgi"], "gthread": ["wsgi"], "gevent": ["wsgi"], "gevent_pywsgi": ["wsgi"], "tornado": ["wsgi", "tornado_app"],
    "asgi": ["asgi", "fastapi_app"], "uvicorn_worker.UvicornWorker": ["asgi", "fastapi_app"],
}  # fmt: skip
MORE = """
import fastapi, tornado.web
fastapi_app = fastapi.FastAPI()
@fastapi_app.get("/calls/{number}", response_class=fastapi.responses.PlainTextResponse)
async def fastapi_call(number: int):
    return ask(number)
class Call(tornado.web.RequestHandler):
    def get(self, number):
        self.write(ask(int(number)))
tornado_app = tornado.web.Application([(r"/calls/(\\d+)", Call)])
"""


@pytest.mark.parametrize("workers", [1, 2])
@pytest.mark.parametrize(
    "kind, name", [(kind, name) for kind, names in GUNICORN.items() for name in names]
)
def test_gunicorns_workers(kind: str, name: str, workers: int, tmp_path: Path) -> None:
    """Each kind of worker, with each kind of application that it serves: the pages are there, and
    all is recorded.
    """
    (tmp_path / "office.py").write_text(OFFICE + MORE)
    port, folder = free_port(), tmp_path / "c"
    program = [
        sys.executable,
        "-m",
        "gunicorn",
        "-k",
        kind,
        "-w",
        str(workers),
        "-b",
        f"127.0.0.1:{port}",
        f"office:{name}",
    ]
    visit = f"http://127.0.0.1:{port}/calls/7"
    ran = run(
        "capture",
        "app",
        "-o",
        folder,
        "--visit",
        visit,
        "--repeat",
        3,
        "--",
        *program,
        cwd=tmp_path,
    )
    assert ran.code == 0 and "status 200, 3 visits" in ran.err, ran.err
    assert list(counted(folder).values()) == [[(3, 1)] * 3]


def test_a_module_that_is_loaded_again(record: Record) -> None:
    """Built-in modules share one loader, which is a class; others are asked for and never loaded."""
    folder = record(
        """
        import importlib, importlib.machinery, importlib.util, sys, time
        importlib.reload(time)
        for name in sys.builtin_module_names:
            if name not in sys.modules and not name.startswith("_test"):
                __import__(name)
        for name in ("smtplib", "http.client"):
            assert isinstance(importlib.util.find_spec(name).loader, importlib.machinery.SourceFileLoader)
        import sqlite3.dbapi2
        for module in (sqlite3.dbapi2, importlib.reload(sqlite3.dbapi2)):
            assert type(module.__loader__) is type(module.__spec__.loader) is importlib.machinery.SourceFileLoader
        sqlite3.connect(":memory:").execute("SELECT 'after all that'")
        """
    )
    assert [request.text(0) for request in read(folder)] == ["SELECT 'after all that'"]


def test_eventlet(record: Record, tmp_path: Path) -> None:
    """It loads `time` and others again, in its own way."""
    office(tmp_path)
    folder = record(
        """
        import eventlet
        eventlet.monkey_patch()
        import eventlet.wsgi, os, urllib.request
        from office import wsgi
        listening = eventlet.listen(("127.0.0.1", 0))
        eventlet.spawn(eventlet.wsgi.server, listening, wsgi, log=open(os.devnull, "w"))
        for number in range(3):
            url = "http://127.0.0.1:%d/calls/%d" % (listening.getsockname()[1], number)
            assert urllib.request.urlopen(url).read() == b"call %d" % number
        """
    )
    assert counted(folder)["GET /calls/{id}"] == [(3, 1)] * 3
