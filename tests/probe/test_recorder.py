"""The recorder inside real programs: it counts what SQLite counts, changes nothing, and loses
nothing that ended.
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import socket
import stat
import subprocess
import sys
import textwrap
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest

from askless.capture.reading import read
from tests.conftest import ASKLESS, INJECT, run

Record = Callable[..., Path]


def asked(folder: Path) -> list[str]:
    """The texts of all queries, in the order of their start."""
    found = [
        (request.starts_ns[i], i, request.text(i))
        for request in read(folder)
        for i in range(len(request))
    ]
    return [text for _, _, text in sorted(found, key=lambda item: item[:2])]


def test_counts_equal_what_sqlite_itself_counted(record: Record, tmp_path: Path) -> None:
    folder = record(
        """
        import json, sqlite3
        seen = []
        db = sqlite3.connect("traced.db")
        db.set_trace_callback(seen.append)
        db.execute("CREATE TABLE berth (id INTEGER PRIMARY KEY, name TEXT)")
        db.executemany("INSERT INTO berth VALUES (?, ?)", [(i, "Quay %d" % i) for i in range(50)])
        db.commit()
        cursor = db.cursor()
        for number in range(40):
            cursor.execute("SELECT name FROM berth WHERE id = ?", (number,)).fetchone()
        with db:
            db.execute("UPDATE berth SET name = 'Pier' WHERE id = :id", {"id": 3})
        try:
            with db:
                db.execute("DELETE FROM berth WHERE id = 4")
                db.execute("SELECT nothing FROM nowhere")
        except sqlite3.OperationalError:
            pass
        list(db.execute("SELECT * FROM berth"))
        db.execute("SELECT * FROM berth").fetchmany(10)
        db.close()
        json.dump(seen, open("seen.json", "w"))
        """
    )
    seen = [text.split()[0] for text in json.loads((tmp_path / "seen.json").read_text())]
    # SQLite never saw the statement that it could not prepare; an executemany is one query here and
    # fifty there.
    ours = [text.split()[0] for text in asked(folder) if "nowhere" not in text]
    at = ours.index("INSERT")
    assert ours[:at] + ["INSERT"] * 50 + ours[at + 1 :] == seen


def test_what_is_known_of_each_query(record: Record) -> None:
    folder = record(
        """
        import sqlite3
        db = sqlite3.connect(":memory:")
        db.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT, log TEXT)")
        db.executemany("INSERT INTO vessel VALUES (?, ?, ?)", ((i, "Tern", "x" * 500) for i in range(100)))
        def page():
            return db.execute("SELECT id, name, log FROM vessel WHERE id < :most", {"most": 60}).fetchall()
        page()
        try:
            db.execute("SELECT * FROM vessel WHERE name = ?", ("Tern", 2))
        except sqlite3.ProgrammingError:
            pass
        """
    )
    (request,) = list(read(folder))
    texts = [request.text(i) for i in range(len(request))]
    many = next(i for i, text in enumerate(texts) if text.startswith("INSERT"))
    assert request.batches[many] == 100 and request.rows[many] == 100
    i = next(i for i, text in enumerate(texts) if text.startswith("SELECT id"))
    statement = request.statement(i)
    assert statement.columns == ("id", "name", "log") and statement.names == ("most",)
    assert request.parameters[i] == (60,) and request.rows[i] == 60 and request.digests[i]
    assert request.bytes[i] == pytest.approx(60 * (4 + 8 + 504), rel=0.02)
    assert request.widths[i] == [240, 480, 30240]
    assert statement.sampled == (0, 1), "a long text is no key"
    sample = request.samples[i]
    assert sample is not None and len(sample) == 32 and sample[5] == (5, "Tern")
    assert request.in_transaction[i] == 1, "the INSERT opened one"
    place = request.place(i)
    assert place is not None and place.function == "page" and place.line == 7
    assert place.caller is not None and place.caller.line == 8
    failed = texts.index("SELECT * FROM vessel WHERE name = ?")
    assert "ProgrammingError" in request.errors[failed]
    assert request.durations_ns[i] > 0 and request.end_ns >= request.starts_ns[-1]


def test_the_program_sees_what_it_would_see_without_us(tmp_path: Path) -> None:
    script = tmp_path / "look.py"
    script.write_text(
        textwrap.dedent("""
        import sqlite3, sys, os, threading, warnings
        class Own(sqlite3.Connection):
            pass
        class OwnCursor(sqlite3.Cursor):
            def execute(self, *args):
                return super().execute(*args)
        db = sqlite3.connect(":memory:", factory=Own)
        db.row_factory = sqlite3.Row
        print(isinstance(db, Own), isinstance(db.cursor(), sqlite3.Cursor), isinstance(db.cursor(OwnCursor), OwnCursor))
        db.execute("CREATE TABLE t (a, b)")
        db.executemany("INSERT INTO t VALUES (?, ?)", iter([(1, b"x"), (2, None)]))
        print(db.total_changes, db.in_transaction, [tuple(row) for row in db.execute("SELECT * FROM t ORDER BY a")])
        row = db.execute("SELECT a, b FROM t").fetchone()
        print(row["a"], row.keys(), type(row).__name__)
        cursor = db.cursor()
        print(cursor.execute("SELECT 1") is cursor, cursor.fetchall()[0][0], cursor.fetchone(), cursor.rowcount)
        print([r[0] for r in db.execute("SELECT a FROM t")], next(db.execute("SELECT 7"))[0])
        db.row_factory = lambda cursor, row: None
        print(list(db.execute("SELECT a FROM t")), db.execute("SELECT a FROM t").fetchone())
        for call in (lambda: db.execute("SELEC"), lambda: db.execute(3), lambda: db.execute("SELECT ?", ()), lambda: db.cursor(3)):
            try:
                call()
            except Exception as error:
                print(type(error).__name__, error)
        with db:
            db.execute("UPDATE t SET a = 5")
        print(db.in_transaction, repr(db.cursor().execute.__doc__)[:20], sqlite3.connect.__name__)
        print(sorted(set(sys.path) & {os.environ.get("ASKLESS_CAPTURE", "?")}), threading.active_count())
        print([n for n in sys.path if "askless" in n and "inject" in n])
        interrupted = db.execute("SELECT a FROM t")
        print(interrupted.fetchmany(1), interrupted.close(), sys.argv[1:])
        sys.exit(7)
        """)
    )
    plain = subprocess.run(
        [sys.executable, script, "x y"], capture_output=True, text=True, check=False
    )
    ran = run("capture", "app", "-o", tmp_path / "c", "--", sys.executable, script, "x y")
    assert plain.returncode == ran.code == 7
    assert plain.stdout == ran.out
    assert plain.stderr == ""


def test_a_failing_program_fails_as_without_us(tmp_path: Path) -> None:
    script = tmp_path / "fails.py"
    script.write_text(
        "import sqlite3\ndb = sqlite3.connect(':memory:')\ndb.execute('SELECT 1')\nraise RuntimeError('no berth')\n"
    )
    ran = run("capture", "app", "-o", tmp_path / "c", "--", sys.executable, script)
    assert ran.code == 1 and "RuntimeError: no berth" in ran.err
    assert asked(tmp_path / "c") == ["SELECT 1"]
    assert "the program ended with exit code 1" in ran.err


WAITING = """
import sqlite3, sys, time
db = sqlite3.connect(":memory:")
for number in range(10):
    db.execute("SELECT ?", (number,)).fetchone()
print("ready", flush=True)
{then}
"""


def start(tmp_path: Path, then: str, *options: str) -> subprocess.Popen[str]:
    script = tmp_path / "waits.py"
    script.write_text(WAITING.format(then=then))
    words = [
        *ASKLESS,
        "capture",
        "app",
        "-o",
        str(tmp_path / "c"),
        *options,
        "--",
        sys.executable,
        str(script),
    ]
    # Anyone who runs the tests in the background has Ctrl-C ignored, and children inherit that.
    process = subprocess.Popen(
        words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, stdin=subprocess.DEVNULL, text=True,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
    )  # fmt: skip
    assert process.stdout is not None and process.stdout.readline() == "ready\n"
    return process


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_stopping_loses_nothing(number: signal.Signals, tmp_path: Path) -> None:
    process = start(tmp_path, "time.sleep(60)")
    process.send_signal(number)
    _, err = process.communicate(timeout=30)
    assert process.returncode == 0, err
    assert asked(tmp_path / "c") == ["SELECT ?"] * 10
    assert "Recorded 10 queries" in err


@pytest.mark.parametrize(
    "then",
    ["import os; os._exit(3)", "import os, signal; os.kill(os.getpid(), signal.SIGTERM)",
     "import os; os.execv(sys.executable, [sys.executable, '-c', 'print(1)'])", "raise SystemExit(1)"],
)  # fmt: skip
def test_no_way_to_end_loses_what_ended_before(then: str, tmp_path: Path) -> None:
    process = start(tmp_path, then)
    process.communicate(timeout=30)
    assert asked(tmp_path / "c") == ["SELECT ?"] * 10


def test_killed_outright_leaves_a_capture_that_reads(tmp_path: Path) -> None:
    then = 'for n in range(500): db.execute("SELECT ?", (n,)).fetchone()\nimport os; os.kill(os.getpid(), 9)'
    process = start(tmp_path, then)
    process.communicate(timeout=30)
    (request,) = read(tmp_path / "c")
    assert [request.values(i) for i in range(10, 510)] == [(n,) for n in range(500)]
    assert not list((tmp_path / "c").glob("*.tail"))


def test_what_a_killed_program_had_not_written_is_whole(tmp_path: Path) -> None:
    """A request that was never written, names of parameters, long texts, values that JSON has no
    word for.
    """
    long = "SELECT :fee, :day" + "".join(f", {n} AS fee_{n}" for n in range(200))
    then = (
        "import askless, datetime, os\n"
        "with askless.request('bill'):\n"
        f"    db.execute({long!r}, {{'fee': 12.5, 'day': datetime.date(2026, 3, 1)}}).fetchall()\n"
        "    os.kill(os.getpid(), 9)\n"
    )
    process = start(tmp_path, then)
    process.communicate(timeout=30)
    bill = next(request for request in read(tmp_path / "c") if request.route == "bill")
    assert (
        bill.text(0) == long
        and bill.parameters[0] == (12.5, "2026-03-01")
        and bill.kind == "marked"
    )
    place = bill.place(0)
    assert place is not None and place.file.endswith(".py")
    ran = run("capture", "check", tmp_path / "c")
    assert ran.code == 0 and "were recovered from its crash buffer" in ran.out


def test_sigterm_ends_a_program_inside_a_long_statement(tmp_path: Path) -> None:
    """No handler of ours: one in Python would wait for the statement's end."""
    then = (
        "import os, signal, threading\n"
        "assert signal.getsignal(signal.SIGTERM) is signal.SIG_DFL\n"
        "assert signal.getsignal(signal.SIGHUP) in (signal.SIG_DFL, signal.SIG_IGN)\n"
        "threading.Timer(0.1, os.kill, (os.getpid(), signal.SIGTERM)).start()\n"
        "db.execute('WITH RECURSIVE t(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM t) SELECT count(*) FROM t').fetchone()"
    )
    process = start(tmp_path, then)
    process.communicate(timeout=60)
    assert process.returncode == 128 + signal.SIGTERM
    assert asked(tmp_path / "c") == ["SELECT ?"] * 10


def test_a_program_that_does_not_stop_is_killed(tmp_path: Path) -> None:
    script = tmp_path / "stubborn.py"
    script.write_text(
        "import signal, time\nsignal.signal(signal.SIGTERM, signal.SIG_IGN)\nprint('ready', flush=True)\ntime.sleep(600)"
    )
    impatient = (
        "import sys; from askless.sources import programs; programs.TERMINATE_WAIT_S = 0.1\n"
        "from askless.cli.main import main; sys.exit(main())"
    )
    process = subprocess.Popen(
        [sys.executable, "-c", impatient, "capture", "app", "-o", tmp_path / "c", "--", sys.executable, script],
        stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert process.stdout is not None and process.stdout.readline() == "ready\n"
    process.send_signal(signal.SIGTERM)
    process.communicate(timeout=60)
    assert process.returncode == 0


def test_what_comes_in_between_may_ask_too(record: Record) -> None:
    """Signal handlers and destructors that query, at any moment of our own work, on several
    threads.
    """
    folder = record(
        """
        import gc, signal, sqlite3, threading
        main, handler, destructor = (sqlite3.connect(":memory:", check_same_thread=False) for _ in range(3))
        signals, destroyed = [], []
        def on_alarm(*_):
            signals.append(1)
            handler.execute("SELECT 'signal'").fetchone()
        class Buoy:
            def __init__(self):
                self.itself = self
            def __del__(self):
                destroyed.append(1)
                destructor.execute("SELECT 'destructor'").fetchone()
        def other():
            db = sqlite3.connect(":memory:")
            for _ in range(500):
                db.execute("SELECT 'thread'").fetchone()
        signal.signal(signal.SIGALRM, on_alarm)
        signal.setitimer(signal.ITIMER_REAL, 0.005, 0.005)
        gc.set_threshold(20, 2, 2)
        threads = [threading.Thread(target=other) for _ in range(3)]
        [thread.start() for thread in threads]
        for _ in range(3000):
            Buoy()
            main.execute("SELECT 'main'").fetchone()
        [thread.join() for thread in threads]
        signal.setitimer(signal.ITIMER_REAL, 0)
        gc.collect()
        main.execute("SELECT 'signals', ?, ?", (len(signals), len(destroyed))).fetchone()
        """
    )
    (request,) = read(folder)
    counts = Counter(request.text(i) for i in range(len(request)))
    _, signals, destroyed = request.values(len(request) - 1)
    assert counts["SELECT 'main'"] == 3000 and counts["SELECT 'thread'"] == 1500
    assert (
        signals
        and counts["SELECT 'signal'"] == signals
        and counts["SELECT 'destructor'"] == destroyed == 3000
    )


def test_forked_workers_and_child_processes_are_reached(record: Record) -> None:
    folder = record(
        """
        import os, sqlite3, subprocess, sys
        def ask(who):
            sqlite3.connect(":memory:").execute("SELECT '%s'" % who).fetchone()
        ask("parent")
        if os.fork() == 0:
            ask("worker")
            os._exit(0)
        os.wait()
        import multiprocessing
        if __name__ == "__main__":
            worker = multiprocessing.get_context("fork").Process(target=ask, args=("pool",))
            worker.start(); worker.join()
        subprocess.run([sys.executable, "-c", "import sqlite3; sqlite3.connect(':memory:').execute('SELECT 4').fetchone()"])
        ask("parent again")
        """
    )
    assert len(list(folder.iterdir())) == 4
    assert sorted(asked(folder)) == [
        "SELECT 'parent again'",
        "SELECT 'parent'",
        "SELECT 'pool'",
        "SELECT 'worker'",
        "SELECT 4",
    ]


def test_threads_keep_to_their_request(record: Record) -> None:
    folder = record(
        """
        import askless, sqlite3, threading
        def job(number):
            db = sqlite3.connect(":memory:")
            with askless.request("job %d" % number):
                for _ in range(200):
                    db.execute("SELECT %d" % number).fetchone()
        threads = [threading.Thread(target=job, args=(n,)) for n in range(4)]
        [t.start() for t in threads]; [t.join() for t in threads]
        """
    )
    for request in read(folder):
        assert len(request) == 200
        assert {request.text(i) for i in range(200)} == {"SELECT " + request.route.split()[1]}


def test_threads_outside_requests_lose_nothing(record: Record) -> None:
    folder = record(
        """
        import sqlite3, sys, threading
        sys.setswitchinterval(1e-6)
        def job(number):
            db = sqlite3.connect(":memory:")
            for n in range(1500):
                db.execute("SELECT ?", (n,)).fetchone()
        threads = [threading.Thread(target=job, args=(n,)) for n in range(6)]
        [t.start() for t in threads]; [t.join() for t in threads]
        """
    )
    (request,) = list(read(folder))
    each = [request.parameters[i][0] for i in range(len(request))]
    assert sorted(each) == sorted(list(range(1500)) * 6) and len(set(request.threads)) == 6
    assert set(request.rows) == {1}


def test_a_signal_in_the_middle_of_writing_loses_nothing(tmp_path: Path) -> None:
    """SIGTERM while the recorder writes all the time: what ended before it is there."""
    then = (
        "import os, signal, threading\n"
        "threading.Timer(0.4, lambda: os.kill(os.getpid(), signal.SIGTERM)).start()\n"
        "n = 0\n"
        "while True:\n    db.execute('SELECT -1, ?', (n,)).fetchone(); n += 1; print(n, flush=True)"
    )
    process = start(tmp_path, then)
    out, _ = process.communicate(timeout=30)
    printed = int(out.split()[-1])
    recorded = sum(text == "SELECT -1, ?" for text in asked(tmp_path / "c"))
    assert printed <= recorded <= printed + 1


def test_a_result_that_is_read_slowly_comes_before_what_was_asked_meanwhile(record: Record) -> None:
    """Its record is written once it is whole, after many of those; the order is that of their
    starts.
    """
    folder = record(
        """
        import askless, sqlite3
        db = sqlite3.connect(":memory:")
        db.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT)")
        db.executemany("INSERT INTO vessel VALUES (?, ?)", [(n, "Tern %d" % n) for n in range(150)])
        with askless.request("GET /vessels"):
            for vessel, _ in db.execute("SELECT id, name FROM vessel ORDER BY id"):
                db.execute("SELECT count(*) FROM vessel WHERE id = ?", (vessel,)).fetchone()
        """
    )
    request = next(request for request in read(folder) if request.kind == "marked")
    assert request.starts_ns == sorted(request.starts_ns)
    assert request.text(0) == "SELECT id, name FROM vessel ORDER BY id" and request.rows[0] == 150
    assert [request.values(i) for i in range(1, 151)] == [(n,) for n in range(150)]
    ran = run("findings", folder, "--json")
    (found,) = json.loads(ran.out)["findings"]
    assert found["pattern"] == "n-plus-one" and found["evidence"] == "traced"


def test_a_decorated_function_is_a_request_and_an_inner_one_changes_nothing(record: Record) -> None:
    folder = record(
        """
        import askless, sqlite3
        db = sqlite3.connect(":memory:")
        @askless.request("nightly tariffs")
        def job(value):
            with askless.request("inner"):
                return db.execute("SELECT ?", (value,)).fetchone()[0]
        assert job(3) == 3
        """
    )
    assert [(r.route, r.kind, len(r)) for r in read(folder)] == [("nightly tariffs", "marked", 1)]


def test_decorated_coroutines_and_generators_are_requests_while_their_code_runs(
    record: Record,
) -> None:
    folder = record(
        """
        import asyncio, functools, inspect, sqlite3, types, askless
        db = sqlite3.connect(":memory:")
        def ask(times):
            for _ in range(times):
                db.execute("SELECT ?", (times,)).fetchone()

        @askless.request("coroutine")
        async def job(times):
            ask(times)
            await asyncio.sleep(0)
            ask(1)
            return times
        @askless.request("awaited generator")
        @types.coroutine
        def old(times):
            ask(times)
            yield
            return times
        @askless.request("generator")
        def values(times):
            ask(times)
            try:
                got = yield 1
            except KeyError:
                got = "thrown"
            ask(1)
            yield got
            return "done"
        @askless.request("async generator")
        async def later(times):
            ask(times)
            try:
                got = yield 1
            except KeyError:
                got = "thrown"
            await asyncio.sleep(0)
            ask(1)
            yield got
        part = askless.request("partial")(functools.partial(job.__wrapped__, 6))
        assert inspect.iscoroutinefunction(job) and inspect.isgeneratorfunction(values) and inspect.isasyncgenfunction(later)

        def delegating():
            print((yield from values(2)))
        def steps(way):
            generator, other = delegating(), values(1)
            assert next(generator) == 1 and next(other) == 1  # two at once
            ask(20)
            print(generator.send("sent") if way == "send" else generator.throw(KeyError("x")))
            assert list(generator) == []
            other.close()
            ask(20)
        async def main():
            print(await asyncio.gather(job(3), job(4)), await old(5), await part())
            print([value async for value in later(7)])
            one = later(1)
            print(await one.asend(None), await one.athrow(KeyError("x")))
            ask(20)
            await one.aclose()
        steps("send")
        steps("throw")
        asyncio.run(main())
        with askless.request("outer"):
            assert next(values(9)) == 1
            asyncio.run(job(9))
        """
    )
    expected = {
        "coroutine": [4, 5], "awaited generator": [5], "partial": [7], "generator": [1, 1, 3, 3],
        "async generator": [2, 8], "outer": [19],
    }  # fmt: skip
    found: dict[str, list[int]] = {}
    for each in read(folder):
        found.setdefault(each.route, []).append(len(each))
    outside = found.pop(next(name for name in found if name.endswith(".py")))
    assert {name: sorted(counts) for name, counts in found.items()} == expected
    assert outside == [100], "queries between two values are not in the request"


def test_marking_costs_nothing_when_nobody_records() -> None:
    code = "import askless\nwith askless.request('x'):\n    print('ran')"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout == "ran\n"


INTERPRETERS = sorted(
    str(found)
    for folder, pattern in (
        (Path.home() / ".pyenv" / "versions", "3.*/bin/python"),
        (Path("/usr/bin"), "python3.[0-9]*"),
    )
    for found in folder.glob(pattern)
    if not found.name.endswith("config")
)


def version(python: str) -> tuple[int, ...]:
    done = subprocess.run(
        [python, "-c", "import sys, sqlite3; print(*sys.version_info[:2])"],
        capture_output=True,
        text=True,
        check=False,
    )
    return tuple(map(int, done.stdout.split())) if done.returncode == 0 else (0, 0)


@pytest.mark.parametrize("python", INTERPRETERS)
def test_interpreters_without_ask_less(python: str, record: Record, tmp_path: Path) -> None:
    """Other interpreters, where Ask Less is not installed: from Python 3.9 they are recorded, older
    ones run unharmed.
    """
    found = version(python)
    if found == (0, 0):
        pytest.skip(f"{python} has no sqlite3")
    script = tmp_path / "other.py"
    script.write_text(
        textwrap.dedent("""
        import sqlite3
        db = sqlite3.connect(":memory:")
        for n in range(5):
            db.execute("SELECT ?", (n,)).fetchall()
        rows = list(db.execute("SELECT 1 UNION ALL SELECT 2"))
        try:
            import askless
            with askless.request("marked"):
                db.execute("SELECT 'in'").fetchone()
        except ImportError:
            pass
        print(rows)
        """)
    )
    ran = run("capture", "app", "-o", tmp_path / "c", "--", python, script)
    assert ran.out == "[(1,), (2,)]\n"
    if found >= (3, 9):
        assert ran.code == 0, ran.err
        assert len(asked(tmp_path / "c")) == 7
        assert {request.route for request in read(tmp_path / "c")} == {"other.py", "marked"}
    else:
        assert ran.code == 0 and "needs Python 3.9" in ran.err


@pytest.mark.parametrize("flag", ["-S", "-I", "-E"])
def test_an_interpreter_that_takes_no_path_runs_unrecorded(flag: str, tmp_path: Path) -> None:
    ran = run(
        "capture",
        "app",
        "-o",
        tmp_path / "c",
        "--",
        sys.executable,
        flag,
        "-c",
        "import sqlite3; print(sqlite3.connect(':memory:').execute('SELECT 5').fetchone())",
    )
    assert ran.out == "(5,)\n" and ran.code == 0
    assert "nothing was recorded" in ran.err


def test_the_programs_own_sitecustomize_still_runs(tmp_path: Path) -> None:
    own = tmp_path / "own"
    own.mkdir()
    (own / "sitecustomize.py").write_text(
        "import sys\nif 's.py' in sys.orig_argv[-1] and 'askless' not in sys.orig_argv: print('own sitecustomize')\n"
    )
    script = tmp_path / "s.py"
    script.write_text(
        "import sqlite3, sitecustomize; sqlite3.connect(':memory:').execute('SELECT 1').fetchone(); print(sitecustomize.__file__)"
    )
    ran = run(
        "capture",
        "app",
        "-o",
        tmp_path / "c",
        "--",
        sys.executable,
        script,
        env={"PYTHONPATH": str(own)},
    )
    assert ran.out == f"own sitecustomize\n{own}/sitecustomize.py\n"
    assert asked(tmp_path / "c") == ["SELECT 1"]


def test_files_are_private(record: Record) -> None:
    folder = record("import sqlite3; sqlite3.connect(':memory:').execute('SELECT 1').fetchone()")
    (file,) = folder.iterdir()
    assert stat.S_IMODE(file.stat().st_mode) == 0o600
    assert stat.S_IMODE(folder.stat().st_mode) == 0o700


def test_a_full_disk_stops_the_recording_and_not_the_program(tmp_path: Path) -> None:
    """A file system of 64 KiB fills up in the middle: the program goes on, we say so once, what
    fitted can be read.
    """
    if os.geteuid() != 0 or shutil.which("mount") is None:
        pytest.skip("needs root to mount a small file system")
    disk = tmp_path / "disk"
    disk.mkdir()
    if subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", disk], capture_output=True, check=False
    ).returncode:
        pytest.skip("can't mount a tmpfs here")
    try:
        script = tmp_path / "big.py"
        script.write_text(
            "import sqlite3\ndb = sqlite3.connect(':memory:')\n"
            "for n in range(3000):\n    assert db.execute('SELECT ?, ?', (n, 'x' * 100)).fetchone()[0] == n\nprint('went on')\n"
        )
        ran = run("capture", "app", "-o", disk / "c", "--", sys.executable, script)
        assert ran.out == "went on\n" and ran.code == 0
        assert "the disk is full" in ran.err and "recording stopped" not in ran.err
        assert 0 < len(asked(disk / "c")) < 3000
    finally:
        subprocess.run(["umount", disk], check=True)


def test_a_recorder_that_breaks_says_so_once(tmp_path: Path) -> None:
    """The folder vanishes under the recorder: the program goes on."""
    script = tmp_path / "s.py"
    script.write_text(
        "import os, shutil, sqlite3\nshutil.rmtree(os.environ['ASKLESS_CAPTURE'])\ndb = sqlite3.connect(':memory:')\n"
        "for n in range(300):\n    db.execute('SELECT ?', (n,)).fetchone()\nprint('went on')\n"
    )
    ran = run("capture", "app", "-o", tmp_path / "c", "--", sys.executable, script)
    assert ran.out == "went on\n"
    assert ran.err.count("recording stopped") == 1


def test_echo_shows_each_statement_as_it_ends(tmp_path: Path) -> None:
    script = tmp_path / "s.py"
    script.write_text(
        "import sqlite3\ndb = sqlite3.connect(':memory:')\nc = db.execute('CREATE TABLE t (a)')\n"
        "db.execute('SELECT 1\\n  UNION SELECT \"\\x1b[31m\" || 2').fetchall()\n"
    )
    ran = run("capture", "app", "--echo", "-o", tmp_path / "c", "--", sys.executable, script)
    shown = [line for line in ran.err.splitlines() if " ms " in line]
    assert len(shown) == 2 and "CREATE TABLE t (a)" in shown[0]
    assert (
        "SELECT" not in shown[0]
        and "2 rows" in shown[1]
        and "SELECT 1 UNION" in shown[1]
        and "\x1b" not in shown[1]
    )


def test_echo_shows_what_people_look_for(tmp_path: Path) -> None:
    """Tables, joins, conditions and values; columns folded; no noise."""
    columns = ", ".join(f"vessel.column_{n}" for n in range(30))
    script = tmp_path / "s.py"
    script.write_text(
        "import sqlite3\ndb = sqlite3.connect(':memory:')\ndb.execute('BEGIN')\n"
        f"db.execute('CREATE TABLE vessel (id, flag, {columns.replace('vessel.', '')})')\n"
        f"db.execute('SELECT {columns}, (SELECT 1 FROM vessel) AS one FROM vessel LEFT JOIN vessel AS owner '\n"
        "           'ON owner.id = vessel.id WHERE vessel.flag = ? AND vessel.id = ?', ('NO', 7)).fetchall()\n"
        "db.execute('COMMIT')\n"
    )
    ran = run("capture", "app", "--echo", "-o", tmp_path / "c", "--", sys.executable, script)
    shown = " ".join(ran.err.split("CREATE")[1].split("\n", 1)[1].split())
    assert "SELECT … FROM vessel LEFT JOIN vessel AS owner ON owner.id = vessel.id WHERE" in shown
    assert "vessel.flag = ? AND vessel.id = ? ('NO', 7)" in shown
    assert "BEGIN" not in ran.err and "COMMIT" not in ran.err


def test_echo_shows_every_statement_once_across_flushes(tmp_path: Path) -> None:
    script = tmp_path / "s.py"
    script.write_text(
        "import sqlite3, time\ndb = sqlite3.connect(':memory:')\n"
        "for n in range(200):\n    row = db.execute('SELECT 0, %d' % n).fetchone()\n    n % 50 or time.sleep(0.26)\n"
    )
    ran = run("capture", "app", "--echo", "-o", tmp_path / "c", "--", sys.executable, script)
    shown = [line.split()[-1] for line in ran.err.splitlines() if " ms " in line]
    assert shown == [str(n) for n in range(200)]


def test_echo_in_an_interactive_session(tmp_path: Path) -> None:
    words = [
        *ASKLESS,
        "capture",
        "app",
        "--echo",
        "-o",
        str(tmp_path / "c"),
        "--",
        sys.executable,
        "-i",
        "-q",
    ]
    typed = "import sqlite3\ndb = sqlite3.connect(':memory:')\nc = db.execute('SELECT 41')\nprint('after')\n"
    done = subprocess.run(
        words, input=typed, capture_output=True, text=True, timeout=60, check=False
    )
    assert done.stdout == "after\n"
    assert "SELECT 41" in done.stderr
    assert asked(tmp_path / "c") == ["SELECT 41"]


def test_wsgi_requests_with_the_route_guessed_or_known(record: Record) -> None:
    folder = record(
        """
        import sqlite3, threading, urllib.request
        from wsgiref.simple_server import make_server, WSGIRequestHandler
        class Quiet(WSGIRequestHandler):
            def log_message(self, *args): pass
        def application(environ, start_response):
            db = sqlite3.connect(":memory:")
            start_response("200 OK", [("Content-Type", "text/plain")])
            def body():
                db.execute("SELECT 1").fetchone()
                yield b"calls"
            return body()
        server = make_server("127.0.0.1", 0, application, handler_class=Quiet)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        base = "http://127.0.0.1:%d" % server.server_port
        for path in ("/calls/12", "/calls/13?full=1", "/berths"):
            assert urllib.request.urlopen(base + path).read() == b"calls"
        server.shutdown(); server.server_close()

        import flask
        site = flask.Flask("harbour")
        @site.get("/pilots/<int:number>/<path:rest>")
        def pilot(number, rest):
            sqlite3.connect(":memory:").execute("SELECT 2").fetchone()
            return "x" if rest != "fail" else flask.abort(503)
        @site.get("/stream")
        def stream():
            db = sqlite3.connect(":memory:", check_same_thread=False)
            return flask.Response(str(db.execute("SELECT ?", (n,)).fetchone()[0]) for n in range(3))
        client = site.test_client()
        client.get("/pilots/4/a"), client.get("/pilots/5/fail"), client.get("/nowhere/77")
        assert client.get("/stream").text == "012"
        """
    )
    found = sorted((r.route, r.status, len(r)) for r in read(folder))
    assert found == [
        ("GET /berths", 200, 1), ("GET /calls/{id}", 200, 1), ("GET /calls/{id}", 200, 1), ("GET /nowhere/{id}", 404, 0),
        ("GET /pilots/{number}/{rest}", 200, 1), ("GET /pilots/{number}/{rest}", 503, 1), ("GET /stream", 200, 3),
    ]  # fmt: skip


SITE = """
import sqlite3, sys, time
from wsgiref.simple_server import make_server, WSGIRequestHandler
class Quiet(WSGIRequestHandler):
    def log_message(self, *args): pass
def application(environ, start_response):
    if environ["PATH_INFO"] == "/crash":
        import os; os._exit(9)
    sqlite3.connect(":memory:").execute("SELECT 1").fetchone()
    start_response("404 Not Found" if environ["PATH_INFO"] == "/gone" else "200 OK", [])
    return [b""]
time.sleep(0.3)
make_server("127.0.0.1", int(sys.argv[1]), application, handler_class=Quiet).serve_forever()
"""


def site(tmp_path: Path, *options: object) -> tuple[object, int]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    script = tmp_path / "site.py"
    script.write_text(SITE)
    words = [str(option).replace("PORT", str(port)) for option in options]
    return run(
        "capture", "app", "-o", tmp_path / "c", *words, "--", sys.executable, script, port
    ), port


def test_pages_are_visited_after_a_warm_up(tmp_path: Path) -> None:
    ran, port = site(
        tmp_path,
        "--visit",
        "http://127.0.0.1:PORT/due",
        "--visit",
        "http://127.0.0.1:PORT/gone",
        "--repeat",
        3,
    )
    assert ran.code == 0, ran.err  # type: ignore[attr-defined]
    assert f"http://127.0.0.1:{port}/due: status 200, 3 visits, median" in ran.err  # type: ignore[attr-defined]
    assert "answered with status 404" in ran.err  # type: ignore[attr-defined]
    counted = {
        row["route"]: (row["requests"], row["warm_up"])
        for row in run("requests", tmp_path / "c", "--json").json["routes"]
    }
    assert counted == {"GET /due": (3, 2), "GET /gone": (3, 1)}


def test_what_a_visited_program_started_stops_with_it(tmp_path: Path) -> None:
    """A reloader's child serves the pages and outlives its parent: it is stopped too, and nothing
    it asked is lost.
    """
    child = tmp_path / "child.py"
    child.write_text(SITE)
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    parent = tmp_path / "parent.py"
    parent.write_text(
        "import signal, subprocess, sys, os\n"
        "signal.signal(signal.SIGTERM, lambda *a: os._exit(0))\n"
        f"started = subprocess.Popen([sys.executable, {str(child)!r}, sys.argv[1]])\n"
        f"open({str(tmp_path / 'pid')!r}, 'w').write(str(started.pid))\n"
        "started.wait()\n"
    )
    url = f"http://127.0.0.1:{port}/due"
    ran = run(
        "capture",
        "app",
        "-o",
        tmp_path / "c",
        "--visit",
        url,
        "--repeat",
        4,
        "--",
        sys.executable,
        parent,
        port,
    )
    assert ran.code == 0, ran.err
    assert asked(tmp_path / "c") == ["SELECT 1"] * 6
    state = Path("/proc") / (tmp_path / "pid").read_text() / "stat"
    assert not state.exists() or state.read_text().rsplit(")", 1)[1].split()[0] == "Z"


def test_a_page_that_kills_the_program_is_said(tmp_path: Path) -> None:
    ran, _ = site(
        tmp_path, "--visit", "http://127.0.0.1:PORT/due", "--visit", "http://127.0.0.1:PORT/crash"
    )
    assert ran.code == 2 and "exit code 9" in ran.err  # type: ignore[attr-defined]
    assert asked(tmp_path / "c") == ["SELECT 1"] * 2


def test_a_program_that_never_answers_or_ends_at_once(tmp_path: Path) -> None:
    silent = run(
        "capture",
        "app",
        "-o",
        tmp_path / "a",
        "--visit",
        "http://127.0.0.1:9/",
        "--startup-timeout",
        1,
        "--",
        sys.executable,
        "-c",
        "import time; time.sleep(50)",
    )
    assert silent.code == 2 and "did not answer within 1 s" in silent.err
    ended = run(
        "capture",
        "app",
        "-o",
        tmp_path / "b",
        "--visit",
        "http://127.0.0.1:9/",
        "--",
        sys.executable,
        "-c",
        "raise SystemExit(4)",
    )
    assert ended.code == 2 and "ended with exit code 4 before" in ended.err


def test_sqlalchemy_tells_model_and_relation(pages: dict[str, Path]) -> None:
    loads = {
        (load.kind, load.model, load.relation, load.many)
        for request in read(pages["grown"])
        for i in range(len(request))
        if (load := request.load(i)) is not None and load.relation
    }
    assert loads >= {
        ("lazy", "PortCall", "vessel", False),
        ("lazy", "PortCall", "tug_jobs", True),
        ("lazy", "TugJob", "tug", False),
    }
    eager = {
        (load.model, load.relation)
        for r in read(pages["tuned"])
        for i in range(len(r))
        if (load := r.load(i)) and load.kind == "eager"
    }
    assert ("PortCall", "tug_jobs") in eager


def test_no_hook_stays_behind() -> None:
    """In a process that is not recorded nothing is hooked, even with the recorder on its path."""
    inject = INJECT
    code = "import sys, sqlite3; print('askless_probe' in sys.modules, sqlite3.connect.__module__, [f for f in sys.meta_path if 'askless' in type(f).__module__])"
    env = {key: value for key, value in os.environ.items() if not key.startswith("ASKLESS")}
    done = subprocess.run(
        [sys.executable, "-c", code],
        env={**env, "PYTHONPATH": str(inject)},
        capture_output=True,
        text=True,
        check=True,
    )
    assert done.stdout.split() == ["False", "_sqlite3", "[]"]
