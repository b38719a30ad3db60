"""Programs that do rough things keep running as without the recorder; what can't be recorded is
said once.
"""

from __future__ import annotations

import os
import pwd
import subprocess
import sys
import textwrap
from collections.abc import Callable
from pathlib import Path

import pytest

from askless.capture.lines import files_of
from askless.capture.reading import Reader, read
from tests.conftest import run

Record = Callable[..., Path]
ASK = """
import sqlite3
db = sqlite3.connect(":memory:")
def ask(number):
    for n in range(number):
        db.execute("SELECT ? + 0 FROM (SELECT 1 AS berth)", (n,)).fetchone()
"""


def queries(folder: Path) -> int:
    return sum(len(request) for request in read(folder))


def test_it_closes_every_descriptor_and_opens_its_own(record: Record, tmp_path: Path) -> None:
    folder = record(
        ASK
        + """
import os
ask(70)
os.closerange(3, 200)
db = sqlite3.connect(":memory:")
mine = [open("mine-%d.txt" % n, "w") for n in range(8)]
ask(100)
for file in mine:
    file.write("tariffs\\n")
    file.close()
"""
    )
    assert queries(folder) == 170
    assert {path.read_text() for path in tmp_path.glob("mine-*.txt")} == {"tariffs\n"}, (
        "nothing of ours in its files"
    )
    assert len(list(folder.iterdir())) == 1


def test_it_changes_directory_and_takes_the_old_one_away(record: Record, tmp_path: Path) -> None:
    folder = record(
        ASK
        + "import os, tempfile\nos.chdir(tempfile.mkdtemp())\nask(70)\nos.rmdir(os.getcwd())\nask(70)\n"
    )
    assert queries(folder) == 140


def test_it_patches_the_same_driver(record: Record) -> None:
    folder = record(
        """
        import sqlite3
        plain = sqlite3.connect
        made = []
        class Shouting(sqlite3.Connection):
            def execute(self, sql, *parameters):
                made.append(sql)
                return super().execute(sql.upper(), *parameters)
        def connect(*args, **kwargs):
            return plain(*args, factory=Shouting, **kwargs)
        sqlite3.connect = sqlite3.dbapi2.connect = connect
        db = sqlite3.connect(":memory:")
        assert db.execute("select 1 + ?", (2,)).fetchone() == (3,)
        assert made == ["select 1 + ?"] and isinstance(db, Shouting)
        import psycopg
        class Loud(psycopg.Cursor):
            def execute(self, *args, **kwargs):
                raise RuntimeError("not here")
        kept, psycopg.Cursor.execute = psycopg.Cursor.execute, Loud.execute
        psycopg.Cursor.execute = kept
        """
    )
    assert [request.text(i) for request in read(folder) for i in range(len(request))] == [
        "SELECT 1 + ?"
    ]


def test_it_forks_in_the_middle_of_requests(record: Record) -> None:
    folder = record(
        ASK
        + """
import askless, os
for turn in range(3):
    with askless.request("turn %d" % turn):
        ask(3)
        child = os.fork()
        if not child:
            with askless.request("inner"):
                ask(5)
            os._exit(0)
        os.waitpid(child, 0)
        ask(2)
"""
    )
    assert len(list(folder.iterdir())) == 4
    counts: dict[str, int] = {}
    for request in read(folder):
        counts[request.route] = counts.get(request.route, 0) + len(request)
    assert counts == {f"turn {turn}": 5 + 5 for turn in range(3)}, (
        "a child goes on in the request that it was forked in"
    )


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can give up rights")
def test_it_drops_privileges(tmp_path: Path) -> None:
    nobody = pwd.getpwnam("nobody").pw_uid
    for turn, before in enumerate(("ask(3)", "pass")):
        script = tmp_path / f"drops-{turn}.py"
        script.write_text(
            f"{ASK}\nimport os\n{before}\nos.setuid({nobody})\nask(140)\nprint('served')\n"
        )
        folder = tmp_path / f"c{turn}"
        ran = run("capture", "app", "-o", folder, "--", sys.executable, script)
        assert ran.out == "served\n"
        assert ran.code == 0 and queries(folder) == (143 if before == "ask(3)" else 140), ran.err


def test_the_disk_is_full(tmp_path: Path) -> None:
    """A file system of its own, too small for the capture."""
    small = tmp_path / "small"
    small.mkdir()
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", str(small)],
        capture_output=True,
        check=False,
    )
    if mounted.returncode:
        pytest.skip("no right to mount here")
    try:
        script = tmp_path / "fills.py"
        script.write_text(f"{ASK}\nask(9000)\nprint('served')\n")
        ran = run("capture", "app", "-o", small / "c", "--", sys.executable, script)
        assert ran.out == "served\n" and ran.code == 0, ran.err
        assert (
            "the disk is full" in ran.err
            and "nothing is recorded until it has room again" in ran.err
        )
        assert 100 < queries(small / "c") < 9000, "what was written before counts"
    finally:
        subprocess.run(["umount", "-l", str(small)], check=False)


def test_another_environment_without_ask_less(tmp_path: Path) -> None:
    """Under its own interpreter and packages: `import askless` works, marks, and needs nothing of
    ours.
    """
    venv = tmp_path / "venv"
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", str(venv)], check=True)
    script = tmp_path / "job.py"
    script.write_text(
        ASK
        + textwrap.dedent("""
        import askless, sys
        with askless.request("tariffs"):
            ask(4)
        @askless.request("berths")
        def job():
            ask(2)
        job()
        print(sys.prefix, "msgspec" in sys.modules, askless.RepeatedLoad.__name__)
        """)
    )
    ran = run("capture", "app", "-o", tmp_path / "c", "--", venv / "bin" / "python", script)
    assert ran.code == 0 and ran.out.split() == [str(venv), "False", "RepeatedLoad"], ran.err
    assert {request.route: len(request) for request in read(tmp_path / "c")} == {
        "tariffs": 4,
        "berths": 2,
    }


def test_marks_cost_nothing_and_change_nothing_when_nobody_records() -> None:
    code = """
    import askless
    def job():
        return 7
    assert askless.request("x")(job) is job
    with askless.request("x") as block:
        pass
    try:
        raise askless.RepeatedLoad("never")
    except askless.RepeatedLoad as error:
        print(error)
    """
    done = subprocess.run(
        [sys.executable, "-c", textwrap.dedent(code)], capture_output=True, text=True, check=True
    )
    assert done.stdout == "never\n"


def test_killed_outright_loses_at_most_a_flush_for_each_request_under_way(tmp_path: Path) -> None:
    script = tmp_path / "killed.py"
    script.write_text(
        ASK
        + textwrap.dedent("""
        import askless, os
        for turn in range(40):
            with askless.request("turn"):
                ask(25)
        with askless.request("last"):
            ask(1000)
            os.kill(os.getpid(), 9)
        """)
    )
    ran = run("capture", "app", "-o", tmp_path / "c", "--", sys.executable, script)
    assert ran.code == 137
    (file,) = files_of(tmp_path / "c")
    reader = Reader(file)
    counts = [len(request) for request in reader]
    assert counts[:40] == [25] * 40 and 1000 - 64 <= counts[40] <= 1000
    assert not reader.report.bad_lines and reader.report.open_requests == 1


def test_a_million_queries_leave_memory_flat(record: Record) -> None:
    """A tenth of a million here, in marked and unmarked stretches; benchmarks/endurance.py runs the
    whole.
    """
    folder = record(
        ASK
        + """
import askless, json, resource
seen = []
for turn in range(40):
    with askless.request("turn"):
        ask(2000)
    ask(500)
    seen.append(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)
json.dump(seen, open("memory.json", "w"))
"""
    )
    import json

    seen = json.loads((folder.parent / "memory.json").read_text())
    assert seen[-1] - seen[3] < 3000, f"KiB at the peak after each turn: {seen}"
    total = sum(
        reader.report.queries
        for file in files_of(folder)
        for reader in [Reader(file)]
        if list(reader)
    )
    assert total == 100_000


def test_the_folder_vanishes(tmp_path: Path) -> None:
    script = tmp_path / "vanish.py"
    script.write_text(
        ASK + f"import shutil\nshutil.rmtree({str(tmp_path / 'c')!r})\nask(100)\nprint('served')\n"
    )
    ran = run("capture", "app", "-o", tmp_path / "c", "--", sys.executable, script)
    assert ran.out == "served\n" and ran.err.count("recording stopped: FileNotFoundError") == 1
    assert ran.code == 0 and "nothing was recorded" in ran.err, (
        "the exit code is the program's own, whatever we could do"
    )


def test_the_folder_has_vanished_before_a_request_begins(tmp_path: Path) -> None:
    """A request opens the capture: nothing of ours is raised into the program for it."""
    script = tmp_path / "vanish.py"
    script.write_text(
        f"import askless, shutil\nshutil.rmtree({str(tmp_path / 'c')!r})\n"
        "with askless.request('nightly'):\n    print('served')\n"
    )
    ran = run("capture", "app", "-o", tmp_path / "c", "--", sys.executable, script)
    assert (ran.code, ran.out) == (0, "served\n") and ran.err.count(
        "recording stopped: FileNotFoundError"
    ) == 1
