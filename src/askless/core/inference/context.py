"""What judging and advising may use next to what was met: thresholds, the schema where it is known,
the ORM's models.
"""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.records.model import CallSite, Model, relation_of
from askless.core.records.schema import Schema
from askless.core.settings import Settings
from askless.core.sql.masking import masked

Models = dict[tuple[str, str], Model]


class Context(msgspec.Struct, frozen=True):
    """See the module. `models` are by ORM and name.

    `widths` are the bytes of each column of a shape's results and the rows that they were measured
    on, over all routes: by digest and names of columns. `shared` are the models of each line that
    reads several, by file and line. `eager` are the relations that any route loads eagerly: ORM,
    model, name. `readers` are the routes that read a column or a relation, by line, where
    that was tracked.
    """

    settings: Settings
    schema: Schema | None = None
    models: Models = {}
    widths: dict[tuple[str, tuple[str, ...]], tuple[list[int], int]] = {}
    shared: dict[tuple[str, int], set[str]] = {}
    eager: set[tuple[str, str, str]] = set()
    readers: dict[tuple[str, int], dict[str, set[str]]] = {}

    def may_be_loaded(self, stats: ShapeStats) -> bool:
        """Whether a shape is a relation's own query as it is, and any route loads the relation
        eagerly: such a query gives what was loaded, and asks again once a call is added to it.
        """
        load, structure = stats.load, stats.structure
        if load is None or structure is None or load.kind != "lazy":
            return False
        if (load.orm, load.model, load.relation) not in self.eager:
            return False
        if load.unchanged is not None:
            return load.unchanged
        relation = relation_of(load, self.models)
        if relation is None or relation.link:
            return True
        # What is joined or compared besides the relation's key was added to the query.
        return not (structure.joins or structure.filters_besides(relation.remote))

    def readers_of(self, places: Iterable[CallSite], name: str) -> set[str]:
        """The routes that read a column or a relation of a query of these lines."""
        lines = {(place.file, place.line) for place in places}
        return {route for line in lines for route in self.readers.get(line, {}).get(name, ())}

    def widths_of(self, stats: ShapeStats) -> tuple[list[int], int]:
        """The bytes of each column of a shape's results, and the rows that these had; [] and 0 if
        none was measured.

        Not every result is measured: what a shape's results are on other routes stands for those on
        its own.
        """
        if stats.widths_rows and stats.widths:
            return stats.widths, stats.widths_rows
        return self.widths.get((stats.shape.digest, stats.columns), ([], 0))

    def sql(self, stats: ShapeStats) -> str:
        """A shape's statement as reports show it: literals masked, unless they are wanted."""
        text = stats.statement.text.strip()
        return text if self.settings.show_values else masked(text, stats.statement.system)
