"""How the demos show what they do: titles, commands as they are typed, and what these say."""

from __future__ import annotations

import contextlib
import io
import socket
import sys
from collections.abc import Sequence


def free_port() -> int:
    """A port that no one listens on."""
    with contextlib.closing(socket.socket()) as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def step(what: str, words: Sequence[str]) -> None:
    """Run a command of ours, under a title and with what is typed for it."""
    from askless.cli.main import main

    title(what)
    shown(words)
    sys.stdout.flush()
    main(words)


def title(text: str) -> None:
    """A line above a step."""
    print(f"\n━━ {text} " + "━" * max(4, 74 - len(text)))


def shown(words: Sequence[str]) -> None:
    """A command of ours as it is typed."""
    typed = io.StringIO()
    typed.write("$ askless")
    for word in words:
        typed.write(" " + (f'"{word}"' if " " in word else word))
    print(typed.getvalue() + "\n")
