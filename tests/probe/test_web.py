"""Requests under real servers: one for each call of the application, under the pattern that
matched.
"""

from __future__ import annotations

import sys
import textwrap
from collections.abc import Callable
from pathlib import Path

import pytest

from askless.capture.reading import read
from tests.conftest import run
from tests.servers import free_port

Record = Callable[..., Path]

# What an ASGI application answers its server before and after all requests.
LIFESPAN = """    if scope["type"] == "lifespan":
        while True:
            message = await receive()
            await send({"type": message["type"] + ".complete"})
            if message["type"] == "lifespan.shutdown":
                return
"""
APPLICATION = """
import sqlite3
from fastapi import APIRouter, FastAPI
from starlette.applications import Starlette
from starlette.responses import PlainTextResponse
from starlette.routing import Mount, Route

def ask(times):
    db = sqlite3.connect(":memory:")
    for number in range(times):
        db.execute("SELECT ? + 0 FROM (SELECT 1 AS berth)", (number,)).fetchone()

async def call(request):
    ask(2)
    return PlainTextResponse("call")

def lights(request):  # runs on a thread of a pool
    ask(3)
    return PlainTextResponse("lights")

starlette = Starlette(routes=[Route("/calls/{number:int}", call), Mount("/pier", routes=[Route("/lights/{who}", lights)])])

router = APIRouter(prefix="/berths")
fastapi = FastAPI()

@router.get("/{berth_id}")
async def berth(berth_id: int):
    ask(1)
    return {}

@fastapi.get("/pilots/{who}")
def pilot(who: str):
    ask(4)
    return {}

fastapi.include_router(router)

def wsgi(environ, start_response):
    ask(2)
    start_response("200 OK", [("Content-Type", "text/plain")])
    return [b"calls"]

async def asgi(scope, receive, send):
LIFESPAN    ask(5)
    await send({"type": "http.response.start", "status": 203, "headers": []})
    await send({"type": "http.response.body", "body": b"calls"})
""".replace("LIFESPAN", LIFESPAN)

SERVED = {
    "starlette": ("uvicorn office:starlette --port {port} --log-level warning", {"/calls/7": ("GET /calls/{number}", 2, 200), "/pier/lights/red": ("GET /pier/lights/{who}", 3, 200)}),
    "fastapi": ("uvicorn office:fastapi --port {port} --log-level warning --workers 2", {"/berths/3": ("GET /berths/{berth_id}", 1, 200), "/pilots/ann": ("GET /pilots/{who}", 4, 200)}),
    "plain ASGI": ("uvicorn office:asgi --port {port} --log-level warning", {"/calls/123": ("GET /calls/{id}", 5, 203)}),
    "gunicorn": ("gunicorn office:wsgi -b 127.0.0.1:{port} -w 3 --log-level warning", {"/calls/123": ("GET /calls/{id}", 2, 200)}),
}  # fmt: skip


@pytest.mark.parametrize("name", SERVED)
def test_under_a_server(name: str, tmp_path: Path) -> None:
    (tmp_path / "office.py").write_text(APPLICATION)
    words, pages = SERVED[name]
    port, folder = free_port(), tmp_path / "c"
    visits = [word for page in pages for word in ("--visit", f"http://127.0.0.1:{port}{page}")]
    program = [sys.executable, "-m", *words.format(port=port).split()]
    ran = run("capture", "app", "-o", folder, *visits, "--repeat", 3, "--", *program, cwd=tmp_path)
    assert ran.code == 0, ran.err
    seen = [request for request in read(folder) if not request.warm_up and request.kind == "http"]
    assert len(seen) == 3 * len(pages)
    for route, queries, status in pages.values():
        mine = [request for request in seen if request.route == route]
        assert [(len(request), request.status) for request in mine] == [(queries, status)] * 3
        places = {
            place.function
            for request in mine
            for i in range(queries)
            if (place := request.place(i))
        }
        assert places == {"ask"}
    checked = run("capture", "check", folder, "--json").json
    assert all(file["closed"] and not file["notes"] for file in checked["files"])


def test_work_handed_to_threads_belongs_to_its_request(record: Record) -> None:
    folder = record(
        """
        import askless, asyncio, sqlite3, threading
        from concurrent.futures import ThreadPoolExecutor
        from multiprocessing.pool import ThreadPool
        def ask(who):
            return sqlite3.connect(":memory:").execute("SELECT '%s' FROM (SELECT 1 AS x)" % who).fetchone()[0]
        pool, other = ThreadPoolExecutor(2), ThreadPool(2)
        list(pool.map(ask, ["warm", "warm"]))
        class Own(threading.Thread):
            def run(self):
                self.given = ask("own")
        async def main():
            loop = asyncio.get_running_loop()
            for name in ("first", "second"):
                with askless.request(name):
                    thread = threading.Thread(target=ask, args=("thread",))
                    own = Own()
                    thread.start(); own.start(); thread.join(); own.join()
                    assert own.given == "own" and "run" not in vars(own)
                    assert list(pool.map(ask, ["pool"])) == ["pool"]
                    assert other.map(ask, ["other"]) == ["other"]
                    assert await asyncio.to_thread(ask, "to_thread") == "to_thread"
                    assert await loop.run_in_executor(pool, ask, "executor") == "executor"
                    await asyncio.gather(*(asyncio.create_task(asyncio.to_thread(ask, "task")) for _ in range(2)))
            async def late():
                await asyncio.sleep(0.05)
                ask("late")
            with askless.request("ended"):
                task = asyncio.create_task(late())
            await task
            pool.submit(ask, "outside").result()
        asyncio.run(main())
        """
    )
    requests = {request.route: request for request in read(folder)}
    for name in ("first", "second"):
        asked = sorted(requests[name].text(i).split("'")[1] for i in range(len(requests[name])))
        assert asked == ["executor", "other", "own", "pool", "task", "task", "thread", "to_thread"]
    assert len(requests["ended"]) == 0
    rest = requests["script.py"]
    assert sorted(rest.text(i).split("'")[1] for i in range(len(rest))) == [
        "late",
        "outside",
        "warm",
        "warm",
    ]


def test_each_pytest_test_is_a_request(tmp_path: Path) -> None:
    (tmp_path / "test_office.py").write_text(
        textwrap.dedent("""
        import pytest, sqlite3
        @pytest.fixture
        def db():
            db = sqlite3.connect(":memory:")
            db.execute("CREATE TABLE berth (id int)")
            return db
        @pytest.mark.parametrize("times", [1, 4])
        def test_asks(db, times):
            for number in range(times):
                db.execute("SELECT id FROM berth WHERE id = ?", (number,)).fetchall()
        def test_fails(db):
            db.execute("SELECT 1 + id FROM berth").fetchall()
            assert False
        """)
    )
    folder = tmp_path / "c"
    words = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-p", "no:askless"]
    ran = run("capture", "app", "-o", folder, "--", *words, cwd=tmp_path)
    assert ran.code == 1, "pytest's own exit code"
    found = {request.route: len(request) for request in read(folder) if request.kind == "test"}
    assert found == {
        "test_office.py::test_asks[1]": 1,
        "test_office.py::test_asks[4]": 4,
        "test_office.py::test_fails": 1,
    }
