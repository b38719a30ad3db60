"""Works on pieces in processes of this machine."""

from __future__ import annotations

import gc
import os
import threading
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from multiprocessing import get_context, parent_process
from multiprocessing.connection import wait

from askless.core.errors import AskLessError
from askless.executors import ExecutorOptions, Given, Made

# pieces a worker that wait to be worked on or to be put together: memory does not grow with their
# number
_AHEAD = 2


class Processes:
    """See the module."""

    def __init__(self, workers: int) -> None:
        self._workers = workers

    def map(self, work: Callable[[Given], Made], pieces: Sequence[Given]) -> Iterator[Made]:
        """See `Spread`."""
        waiting: deque[Future[Made]] = deque()
        # A fresh process knows nothing of this one's threads and files.
        with ProcessPoolExecutor(self._workers, get_context("spawn"), _begin) as pool, _hoarding():
            try:
                for piece in pieces:
                    waiting.append(pool.submit(work, piece))
                    if len(waiting) >= _AHEAD * self._workers:
                        yield waiting.popleft().result()
                while waiting:
                    yield waiting.popleft().result()
            except BrokenProcessPool:
                raise AskLessError(
                    "worker-died",
                    "a worker process ended unexpectedly: out of memory, or killed",
                    "run it again with fewer --workers",
                ) from None
            finally:
                for future in waiting:
                    future.cancel()


# What goes from process to process is hundreds of thousands of objects that stay: looking for
# garbage among them takes longer than making them.
_HOARD = 500_000


def _hoard() -> None:
    gc.set_threshold(_HOARD)


def _begin() -> None:
    """A worker begins: it goes when anyone who started it is gone, whatever ended that."""
    _hoard()
    parent = parent_process()
    if parent is not None:
        threading.Thread(
            target=_end_with, args=(parent.sentinel,), name="askless-parent", daemon=True
        ).start()


def _end_with(parent: int) -> None:
    wait([parent])
    os._exit(1)


@contextmanager
def _hoarding() -> Iterator[None]:
    before = gc.get_threshold()
    _hoard()
    try:
        yield
    finally:
        gc.set_threshold(*before)


def executor(wish: ExecutorOptions) -> Processes:
    """See `spread.REGISTRY`."""
    return Processes(wish.workers)
