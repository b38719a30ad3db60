"""Reads every value of a capture, also those that reports leave undecoded until they need them."""

from __future__ import annotations

from pathlib import Path

import msgspec

from askless.capture import events
from askless.capture.lines import files_of
from askless.capture.reading import FileReport, Reader


class CheckingReader(Reader):
    """A reader that looks into every column. A report on what it finds sound does not fail for the
    capture's sake.
    """

    def __init__(self, path: Path) -> None:
        super().__init__(path)
        self._handlers[events.Queries] = self._queries

    def _queries(self, event: events.Queries) -> None:
        for name in events.COLD:
            try:
                values = event.column(name)
            except (msgspec.DecodeError, RecursionError) as error:
                raise ValueError(f"the column {name}: {error}") from None
            if len(values) != event.count:
                raise ValueError(
                    f"the column {name} has {len(values)} values for {event.count} queries"
                )
            if name == "literals":
                self._check_literals(event, values)
        self.assembly.add(event.request, event)

    def _check_literals(self, event: events.Queries, values: list[tuple[str, ...] | None]) -> None:
        numbers = (
            event.statement
            if isinstance(event.statement, list)
            else [event.statement] * event.count
        )
        for number, literals in zip(numbers, values, strict=True):
            wanted = len(self.assembly.tables.statements[number].parts) // 2
            if literals is not None and len(literals) != wanted:
                raise ValueError(
                    f"statement {number} has {wanted} literals, a query of it {len(literals)}"
                )


def check(path: Path) -> list[FileReport]:
    """A report on each file of a capture, every one read to its end.

    Raises AskLessError: capture-missing, capture-empty, capture-foreign, capture-newer,
    capture-unreadable.
    """
    reports = []
    for file in files_of(path):
        reader = CheckingReader(file)
        for _ in reader:
            pass
        reports.append(reader.report)
    return reports
