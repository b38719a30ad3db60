"""Rows that are made as they are asked for, and the frames that can be made of them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any, Generic, TypeVar, overload

import msgspec

from askless.core.findings.finding import Finding
from askless.output import columnar
from askless.reports import columns, documents

Row = TypeVar("Row", bound=msgspec.Struct)


class Table(Generic[Row]):
    """Typed rows. Iterating reads them again, so that a capture may be larger than memory; `len`,
    `[i]` read all of them.

    `to_arrow` and `to_pandas` give columns of the same names, flat.
    """

    def __init__(
        self,
        make: Callable[[], Iterable[Row]],
        kind: type[msgspec.Struct],
        flat: Callable[[Row], msgspec.Struct] | None = None,
    ) -> None:
        self._make = make
        self._kind = kind
        self._flat = flat

    def __iter__(self) -> Iterator[Row]:
        return iter(self._make())

    def __len__(self) -> int:
        return sum(1 for _ in self)

    @overload
    def __getitem__(self, place: int) -> Row: ...
    @overload
    def __getitem__(self, place: slice) -> list[Row]: ...
    def __getitem__(self, place: int | slice) -> Row | list[Row]:
        return list(self)[place]

    def __repr__(self) -> str:
        return f"<askless table of {self._kind.__name__}: {', '.join(self.columns)}>"

    @property
    def columns(self) -> tuple[str, ...]:
        """The names of the columns."""
        return self._kind.__struct_fields__

    def to_arrow(self) -> Any:
        """A `pyarrow.Table`. Raises AskLessError columns-extra-missing."""
        return columnar.table_of(self._kind, self._rows())

    def to_pandas(self) -> Any:
        """A `pandas.DataFrame`. Raises AskLessError columns-extra-missing."""
        columnar.check("pandas")
        return self.to_arrow().to_pandas()

    def _rows(self) -> Iterable[msgspec.Struct]:
        return self if self._flat is None else map(self._flat, self)


class Findings(Table[Finding]):
    """Findings with their evidence, cost and advice. `document` is what `askless findings`
    prints.
    """

    def __init__(self, document: documents.FindingsDocument) -> None:
        accepted = set(document.accepted)
        super().__init__(
            lambda: document.findings,
            columns.FindingRecord,
            lambda finding: columns.finding_record(finding, finding.key in accepted),
        )
        self.document = document


class Plans(Table[documents.PlanRow]):
    """Statements with their plans, what was observed on them, and indexes to try. `document` is
    what `askless plan` prints.
    """

    def __init__(self, document: documents.PlanDocument) -> None:
        super().__init__(lambda: document.statements, columns.PlanRecord, columns.plan_record)
        self.document = document
