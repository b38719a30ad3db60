"""While a trial holds a lock, someone looks whether anybody waits for it, and releases in time."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from contextlib import suppress
from types import TracebackType

from sqlalchemy.exc import SQLAlchemyError

_PAUSE_S = 0.02  # between two looks

Waiting = Callable[[], bool]


class LockWatch:
    """Looks again and again whether others wait, from a thread of its own; after `budget_s` it
    releases, once.

    `waiting` says whether anybody waits now, `let_go` gives the lock back at once. `waited_s` is
    the longest time that someone waited; `gave_way` says that the lock was given back. Errors of a
    look end the watch by letting go: no one may wait unseen.
    """

    def __init__(self, waiting: Waiting, let_go: Callable[[], None], budget_s: float) -> None:
        self._waiting, self._let_go, self._budget_s = waiting, let_go, budget_s
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._watch, daemon=True)
        self._began = 0.0
        self.waited_s = 0.0
        self.gave_way = False

    def __enter__(self) -> LockWatch:
        self._began = time.monotonic()
        self._thread.start()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        at: TracebackType | None,
    ) -> None:
        self._over.set()
        self._thread.join()

    def so_far(self) -> tuple[float, float]:
        """Seconds that the lock has been held, and that someone waited for it at most, until
        now.
        """
        return time.monotonic() - self._began, self.waited_s

    def _watch(self) -> None:
        since: float | None = None
        while not self._over.wait(_PAUSE_S):
            try:
                waits = self._waiting()
            except SQLAlchemyError:
                waits, since = (
                    True,
                    since if since is not None else time.monotonic() - self._budget_s,
                )
            now = time.monotonic()
            if not waits:
                since = None
                continue
            since = since if since is not None else now
            self.waited_s = max(self.waited_s, now - since)
            if now - since >= self._budget_s:
                self.gave_way = True
                with suppress(SQLAlchemyError):  # a server that is away has released by itself
                    self._let_go()
                return
