"""Works on pieces one after the other, in this process."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from askless.executors import Given, Made, Wish


class Here:
    """See the module."""

    def map(self, work: Callable[[Given], Made], pieces: Sequence[Given]) -> Iterator[Made]:
        """See `Spread`."""
        return map(work, pieces)


def spread(_: Wish) -> Here:
    """See `spread.REGISTRY`."""
    return Here()
