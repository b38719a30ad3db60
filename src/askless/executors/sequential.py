"""Works on pieces one after the other, in this process."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from askless.executors import ExecutorOptions, Given, Made


class Sequential:
    """See the module."""

    def map(self, work: Callable[[Given], Made], pieces: Sequence[Given]) -> Iterator[Made]:
        """See `Spread`."""
        return map(work, pieces)


def executor(_: ExecutorOptions) -> Sequential:
    """See `spread.REGISTRY`."""
    return Sequential()
