"""Text that is longer than the screen goes through the reader's pager."""

from __future__ import annotations

import os
import shlex
import shutil
import signal
import subprocess
import sys
import threading

_ROOM = 2  # lines of the screen that the prompt takes


def pager() -> list[str]:
    """The pager that PAGER names, else less; none where PAGER is empty or `cat`, or the terminal
    can't move its cursor.
    """
    named = os.environ.get("PAGER")
    if os.environ.get("TERM") in (None, "", "dumb") or named in ("", "cat"):
        return []
    try:
        words = shlex.split(named or "less")
    except ValueError:
        return []
    return words if words and shutil.which(words[0]) else []


def paged(content: bytes) -> bool:
    """Show a text in the pager, where someone reads it on a screen that it is too long for; whether
    that was done.
    """
    if (
        not (sys.stdout.isatty() and sys.stdin.isatty())
        or threading.current_thread() is not threading.main_thread()
    ):
        return False
    if content.count(b"\n") <= shutil.get_terminal_size().lines - _ROOM:
        return False
    words = pager()
    if not words:
        return False
    # What is short stays on the screen, colours come through, and the text stays there when the
    # pager has ended.
    env = {"LESS": "FRX", "LV": "-c", **os.environ}
    before = signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is the pager's
    try:
        subprocess.run(words, input=content, env=env, check=False)
    except OSError:
        return False
    finally:
        signal.signal(signal.SIGINT, before)
    return True
