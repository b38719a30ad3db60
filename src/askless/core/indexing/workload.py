"""What the index advisor is given, and what it gives."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

from askless.core.indexing.needs import Shares
from askless.core.sql.structure import Predicate, Structure

GAIN_LEAST = 0.01  # of the workload's time: what saves less, or takes less, does not count

Writes = Callable[[str, Sequence[str]], int]
Updated = Callable[[str], frozenset[str]]  # table -> the columns that are updated, in lower case


def no_share(_table: str, _predicates: Sequence[Predicate]) -> float | None:
    """No one measured what conditions keep."""
    return None


def no_writes(_table: str, _columns: Sequence[str]) -> int:
    """What is not known of a capture's writes is counted as none."""
    return 0


def none_updated(_table: str) -> frozenset[str]:
    """Nothing is known of a capture's updates."""
    return frozenset()


class Statement(msgspec.Struct, frozen=True):
    """A shape of the workload. `weight_ms` is its time over the capture; `each_ms` the mean of its
    executions; `limit` the rows that it asks for at most.

    `constants` are the conditions whose value is written into the text: column -> the condition as
    SQL.
    """

    digest: str
    structure: Structure
    weight_ms: float = 1.0
    limit: float | None = None
    shares: Shares = no_share
    constants: dict[str, str] = {}
    each_ms: float = 0.0


class Served(msgspec.Struct, frozen=True):
    """A shape that an index serves: about how many rows of the table it touches before and
    after.
    """

    digest: str
    rows_before: float
    rows_after: float


class IndexAdvice(msgspec.Struct, frozen=True):
    """An index to try. `redundant` are existing indexes that it makes superfluous; `partial`
    another form of it.

    `guessed` says that no one measured how many rows its conditions keep.
    """

    table: str
    columns: tuple[str, ...]
    name: str
    ddl: str
    why: str
    size_bytes: int
    redundant: tuple[str, ...]
    check: tuple[str, ...]
    serves: tuple[Served, ...] = ()
    writes: int = 0
    partial: str = ""
    guessed: bool = False
    kind: str = ""
