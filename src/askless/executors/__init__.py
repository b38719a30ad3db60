"""Where the pieces of an analysis are worked on: one after the other here, in processes, on a
cluster. A registry.

Anyone who does it, the pieces are the same, and what they give comes back in their order.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from importlib import import_module
from typing import Protocol, TypeVar

import msgspec

Given = TypeVar("Given")
Made = TypeVar("Made")

# Name -> module, which has `executor(options)`: see `Executor`.
REGISTRY = {
    "here": "askless.executors.sequential",
    "processes": "askless.executors.processes",
    "cluster": "askless.executors.cluster",
}


class ExecutorOptions(msgspec.Struct, frozen=True):
    """How many `workers` (0: as many as there are processors), and on which `cluster`, by its
    address; '' for this machine.
    """

    workers: int = 0
    cluster: str = ""


class Executor(Protocol):
    """What works on pieces."""

    def map(self, work: Callable[[Given], Made], pieces: Sequence[Given]) -> Iterator[Made]:
        """What a function makes of each piece, in their order. Raises AskLessError; what the
        function raises is passed on.
        """


# a program that uses Ask Less starts no processes that it did not ask for
_ALONE = ExecutorOptions(workers=1)
_wish: ContextVar[ExecutorOptions] = ContextVar("askless_spread", default=_ALONE)


@contextmanager
def wished(wish: ExecutorOptions) -> Iterator[None]:
    """Work as it is wished for, within this block."""
    token = _wish.set(wish)
    try:
        yield
    finally:
        _wish.reset(token)


def over(work: Callable[[Given], Made], pieces: Sequence[Given]) -> Iterable[Made]:
    """What a function makes of each piece, in their order, worked on as it is wished for. Raises
    AskLessError.
    """
    wish = _wish.get()
    workers = wish.workers or min(os.cpu_count() or 1, len(pieces))
    name = "cluster" if wish.cluster else "processes" if workers > 1 and len(pieces) > 1 else "here"
    executor: Executor = import_module(REGISTRY[name]).executor(
        ExecutorOptions(workers, wish.cluster)
    )
    return executor.map(work, pieces)
