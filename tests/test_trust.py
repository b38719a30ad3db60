"""Nothing is lost in silence, nothing in a folder is touched that is not ours, and no one stays
after.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import textwrap
import threading
from pathlib import Path

import pytest

from askless.cli import unexpected_errors
from askless.core.errors import AskLessError
from askless.project import user_files
from askless.sources.capture_folder import prepare_folder
from tests.conftest import ASKLESS, program, refused, run
from tests.database.test_safety import wait_until
from tests.probe.test_sampling import PAGES

LINE = "2026-12-01 10:00:00.{:03} UTC [77] LOG:  duration: 1.000 ms  statement: SELECT {}\n"


def queries_unreadable(capture: Path, target: Path) -> Path:
    """The capture with every line of queries made unreadable."""
    lines = capture.read_text().splitlines(keepends=True)
    target.write_text(
        "".join(
            line.replace('"duration_ns":', '"duration_ns":"x",')
            if '"event":"queries"' in line
            else line
            for line in lines
        )
    )
    return target


def test_a_capture_that_cant_be_read_is_not_judged(pages: dict[str, Path], tmp_path: Path) -> None:
    whole = next(pages["grown"].glob("*.jsonl")) if pages["grown"].is_dir() else pages["grown"]
    broken = queries_unreadable(whole, tmp_path / "broken.jsonl")
    (tmp_path / "askless.toml").write_text(
        '[[budgets]]\nroute = "GET /calls/due"\nqueries = 5000\nallowed = "all"\n'.replace(
            'allowed = "all"\n', ""
        )
    )
    refused(run("gate", broken, cwd=tmp_path), "broken.jsonl", "first is line", "--allow-damaged")
    refused(
        run("gate", whole, "--baseline", broken, cwd=tmp_path), "broken.jsonl", "--allow-damaged"
    )
    refused(run("findings", broken, "--fail-on", "urgent"), "broken.jsonl")
    refused(run("compare", whole, broken, "--fail-on-new"), "broken.jsonl")
    assert run("gate", broken, "--allow-damaged", "--allow-missing", cwd=tmp_path).code in (0, 1)
    for words in (
        ["requests", broken],
        ["findings", broken],
        ["growth", broken],
        ["indexes", broken, "--db", f"sqlite:///{tmp_path}/none.db"],
    ):
        ran = run(*words)
        assert "can't be read" in ran.err.splitlines()[0] + " ".join(ran.err.split()), words
    torn = tmp_path / "torn.jsonl"
    torn.write_bytes(whole.read_bytes()[:-40])
    assert run("gate", torn, cwd=tmp_path).code == run("gate", whole, cwd=tmp_path).code != 2, (
        "a crash does that"
    )


def test_an_unforeseen_error_has_a_code_of_its_own(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    from askless.cli import main, patterns

    monkeypatch.setattr(patterns, "run", lambda _: {}["nobody foresaw it"])
    assert main.main(["patterns"]) == unexpected_errors.EXIT_CODE == 70
    said = capsys.readouterr().err
    assert said.startswith("askless: internal error: KeyError") and "Traceback" not in said
    assert len(said.splitlines()) == 2 and unexpected_errors.VARIABLE in said
    monkeypatch.setenv(unexpected_errors.VARIABLE, "1")
    assert main.main(["patterns"]) == 70 and "Traceback" in capsys.readouterr().err


def test_a_thread_that_dies_ends_its_command(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    from askless.cli import main, patterns

    gone_on: list[bool] = []

    def run_with_a_thread(_: object) -> int:
        thread = threading.Thread(target=lambda: 1 / 0)
        thread.start()
        thread.join()
        threading.Event().wait(30)
        gone_on.append(True)
        return 0

    monkeypatch.setattr(patterns, "run", run_with_a_thread)
    assert main.main(["patterns"]) == 70 and "ZeroDivisionError" in capsys.readouterr().err
    assert not gone_on, "it is interrupted"


def test_a_thread_that_dies_ends_a_command_in_the_background(tmp_path: Path) -> None:
    """A script's background jobs ignore SIGINT; a main thread that waits is woken all the same."""
    script = tmp_path / "background.py"
    script.write_text(
        textwrap.dedent("""
        import signal, sys, threading
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        from askless.cli import main, patterns
        def run(options):
            threading.Timer(0.2, lambda: 1 / 0).start()
            threading.Event().wait(60)
            sys.exit("it went on")
        patterns.run = run
        sys.exit(main.main(["patterns"]))
        """)
    )
    ran = subprocess.run(
        [sys.executable, script], capture_output=True, text=True, timeout=50, check=False
    )
    assert ran.returncode == 70 and "ZeroDivisionError" in ran.stderr, ran.stderr


@pytest.mark.parametrize("follow", [False, True])
def test_a_log_line_that_nobody_foresaw_costs_itself(follow: bool, tmp_path: Path) -> None:
    log = tmp_path / "app.jsonl"
    odd = '{"ts": "2026-12-01T10:00:01Z", "sql": "SELECT 2", "took": ' + "9" * 400 + "}\n"
    good = '{"ts": "2026-12-01T10:00:0%dZ", "sql": "SELECT name FROM vessel WHERE id = %d", "took": 1.5}\n'
    log.write_text(
        "".join(good % (n, n) for n in range(3)) + odd + "".join(good % (n, n) for n in range(3, 6))
    )
    (tmp_path / "askless.toml").write_text(
        '[logs.office]\nsystem = "postgresql"\n[logs.office.fields]\ntime = "ts"\nsql = "sql"\nduration_ms = "took"\n'
    )
    words = [
        *ASKLESS,
        "capture",
        "log",
        str(log),
        "-o",
        str(tmp_path / "c"),
        "--format",
        "office",
        *(["--follow"] if follow else []),
    ]
    process = subprocess.Popen(words, cwd=tmp_path, stderr=subprocess.PIPE, text=True)
    if follow:
        assert process.stderr is not None
        process.stderr.readline()
        wait_until(lambda: any((tmp_path / "c").glob("*.jsonl")), 30)
        process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=60)
    assert process.returncode == 0 and "Traceback" not in err, err
    checked = run("capture", "check", tmp_path / "c")
    assert (checked.code in (0, 1) and "6 queries" in checked.out) or "7 queries" in checked.out, (
        checked.out
    )


@pytest.mark.parametrize("follow", [False, True])
def test_a_full_disk_ends_the_reading_of_a_log(follow: bool, tmp_path: Path) -> None:
    """A limit on the size of a file is in for the disk's."""
    log = tmp_path / "postgresql.log"
    log.write_text("".join(LINE.format(n % 1000, f"'{n:0300}' AS t{n}") for n in range(3000)))
    words = [
        *ASKLESS,
        "capture",
        "log",
        str(log),
        "-o",
        str(tmp_path / "c"),
        "--prefix",
        "%m [%p] ",
        *(["--follow"] if follow else []),
    ]
    limited = "ulimit -f 100; exec " + subprocess.list2cmdline(words).replace(
        "%m [%p] ", "%m [%p] "
    )
    process = subprocess.run(
        ["bash", "-c", limited], capture_output=True, text=True, timeout=120, check=False
    )
    assert process.returncode == 2 and "Traceback" not in process.stderr, process.stderr
    assert "File too large" in process.stderr
    checked = run("capture", "check", tmp_path / "c")
    assert checked.code == 1 and "ended before its input" in checked.out


def test_a_log_that_is_followed_and_is_none_any_more_ends_the_command(tmp_path: Path) -> None:
    log = tmp_path / "postgresql.json"
    good = '{"timestamp": "2026-12-01 10:00:00.123 UTC", "pid": 77, "error_severity": "LOG", "message": "duration: 1.5 ms  statement: SELECT 1"}\n'
    log.write_text(good * 20 + "no JSON\n" * 20_000)
    words = [
        *ASKLESS,
        "capture",
        "log",
        str(log),
        "-o",
        str(tmp_path / "c"),
        "--format",
        "postgresql-json",
        "--follow",
    ]
    ended = subprocess.run(words, capture_output=True, text=True, timeout=120, check=False)
    assert ended.returncode == 2 and "can't be read further" in " ".join(ended.stderr.split()), (
        ended.stderr
    )
    assert "20 queries" in run("capture", "check", tmp_path / "c").out


def test_nothing_is_written_through_a_link(tmp_path: Path) -> None:
    folder, victim = tmp_path / "c", tmp_path / "victim"
    folder.mkdir(mode=0o700)
    victim.write_text("as it was")
    for name in (
        ".askless-write-test",
        "log.askless.jsonl",
        "packets.askless.jsonl",
        "askless-control",
    ):
        (folder / name).symlink_to(victim)
    (tmp_path / "a.log").write_text(LINE.format(1, 1) * 3)
    run("capture", "log", tmp_path / "a.log", "-o", folder, "--prefix", "%m [%p] ")
    run("capture", "pause", folder)
    assert victim.read_text() == "as it was"


def test_a_folder_that_others_may_write_to_is_refused(tmp_path: Path) -> None:
    shared = tmp_path / "shared"
    shared.mkdir()
    shared.chmod(0o777)
    with pytest.raises(AskLessError, match="is writable by others"):
        prepare_folder(shared)
    shared.chmod(0o755)
    assert prepare_folder(shared) == shared.resolve()


def test_a_cache_that_is_not_ours_is_not_used(tmp_path: Path) -> None:
    file = tmp_path / "kept"
    user_files.write(file, b"what was kept")
    assert user_files.read(file) == b"what was kept" and file.stat().st_mode & 0o777 == 0o600
    changed = bytearray(file.read_bytes())
    changed[-1] ^= 1
    for spoil in (
        lambda: file.write_bytes(changed),
        lambda: (user_files.write(file, b"x"), file.chmod(0o644)),
        lambda: (file.rename(tmp_path / "there"), file.symlink_to(tmp_path / "there")),
    ):
        user_files.write(file, b"what was kept") if not file.is_symlink() else None
        spoil()
        with pytest.raises(OSError):
            user_files.read(file)


def test_workers_go_with_their_command(tmp_path: Path) -> None:
    """Whatever ends it."""
    script = tmp_path / "many.py"
    script.write_text(
        textwrap.dedent("""
        import os, sys, time
        from askless.executors.processes import Processes
        def work(piece):
            open(sys.argv[1] + "/" + str(os.getpid()), "w").close()
            time.sleep(600)
        if __name__ == "__main__":
            list(Processes(2).map(work, [1, 2]))
    """)
    )
    (tmp_path / "pids").mkdir()
    process = subprocess.Popen([sys.executable, str(script), str(tmp_path / "pids")])
    assert wait_until(lambda: len(list((tmp_path / "pids").iterdir())) == 2, 60)
    process.kill()
    process.wait()
    workers = [int(path.name) for path in (tmp_path / "pids").iterdir()]
    assert wait_until(
        lambda: (
            not any(
                Path(f"/proc/{pid}/cmdline").exists() and Path(f"/proc/{pid}/cmdline").read_bytes()
                for pid in workers
            )
        ),
        30,
    )


@pytest.mark.parametrize("words", [["--sample", "1/20"], ["--min-duration", "10s"]])
def test_what_a_killed_program_left_out_is_counted_but_for_the_last(
    words: list[str], tmp_path: Path
) -> None:
    script = tmp_path / "killed.py"
    script.write_text(
        textwrap.dedent(PAGES)
        + textwrap.dedent("""
        for n in range(5000):
            visit("/calls/2")
        os.kill(os.getpid(), 9)
    """)
    )
    run("capture", "app", "-o", tmp_path / "c", *words, "--", sys.executable, script)
    ran = run("requests", tmp_path / "c", "--json")
    assert 4900 <= ran.json["total_requests"] <= 5001, ran.json["total_requests"]
    assert "killed: up to 100 requests, or a second's" in " ".join(ran.err.split())


def test_what_cant_be_seen_is_shown_as_an_escape(tmp_path: Path) -> None:
    odd = tmp_path / "calls\u200b\u202e\nx"
    ran = program("requests", odd)
    assert ran.code == 2 and "\\u200b\\u202e\\nx" in ran.err and len(ran.err.splitlines()) == 2, (
        ran.err
    )
    (tmp_path / "c").mkdir()
    from askless.capture.writing import CaptureWriter
    from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded

    name = tmp_path / "c" / "a\nb\u200b.jsonl"
    writer = CaptureWriter(name, "test", "sqlite")
    writer.request_began(RequestBegan(1, "GET /a\u202eb", 0))
    writer.queries(1, [QuerySeen("SELECT 1", 1, 1)])
    writer.request_ended(RequestEnded(1, 9))
    writer.close()
    for words in (
        ["requests", name],
        ["requests", name, "--json"],
        ["gate", name, "--propose"],
        ["capture", "check", name],
    ):
        ran = run(*words)
        assert ran.code == 0 and not {"\u200b", "\u202e"} & set(ran.out + ran.err), words
    import tomllib

    proposed = tomllib.loads(run("gate", name, "--propose").out)
    assert proposed["budgets"][0]["route"] == "GET /a\u202eb"
    assert os.sep in str(name)
