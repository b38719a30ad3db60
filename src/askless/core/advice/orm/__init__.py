"""Advice in an ORM's own words. A new ORM is a file in this folder and a line here.

Every call is an addition to the query that the application has (it begins with a dot), unless its
docstring says otherwise; '' where the ORM has no call for it.
"""

from __future__ import annotations

from collections.abc import Sequence
from importlib import import_module
from typing import Protocol

import msgspec

from askless.core.findings.finding import SourceLine
from askless.core.inference.context import Models
from askless.core.records.model import Load, Model, Relation


class Step(msgspec.Struct, frozen=True):
    """A path of relations from a query, to be loaded with it: its last one with a join, or by a
    query of its own.
    """

    path: tuple[Load, ...]
    join: bool

    @property
    def names(self) -> tuple[str, ...]:
        """The relations along the path."""
        return tuple(load.relation for load in self.path)


class Query(msgspec.Struct, frozen=True):
    """The query that a call depends on: the line where it is built, its model, and the paths that
    it joins already. `by_key`: the ORM asks for one object by its key, and there is no query to add
    a call to.
    """

    at: SourceLine | None
    model: str
    joined: tuple[tuple[Load, ...], ...] = ()
    by_key: bool = False


def bare(model: str) -> str:
    """The class of a model, whose name may have its module's or application's in front."""
    return model.rsplit(".", 1)[-1]


def longest(steps: Sequence[Step]) -> list[Step]:
    """The steps without those that another one passes through, in order."""
    names = [step.names for step in steps]
    return [
        step
        for i, step in enumerate(steps)
        if not any(
            other[: len(step.names)] == step.names and (other != step.names or j < i)
            for j, other in enumerate(names)
            if j != i
        )
    ]


class Words(Protocol):
    """What an ORM calls things. `models` are the models that the capture describes."""

    def batched(self, path: Sequence[Load]) -> str:
        """Load the last relation of a path with a query of its own; what is above it travels
        along.
        """

    def apart(self, load: Load) -> str:
        """Load a relation that the query's own options join by a query of its own; '' where no join
        brings in a to-many relation. An instruction, as options that say otherwise are refused.
        """

    def subclasses(self, base: str, models: Sequence[str], path: Sequence[Load]) -> str:
        """Load the columns of these classes of a model with the query, below a path of eager loads;
        '' if their tables are relations of their own.
        """

    def recursive(self, load: Load, levels: int, query: Query) -> str:
        """Load a relation of a model to itself with the objects of a query, so many levels deep, or
        as deep as it is.
        """

    def recursive_queries(self, load: Load, levels: int) -> int:
        """The queries that this takes."""

    def joined(self, path: Sequence[Load]) -> str:
        """Load the last relation of a path with an outer join to what is above it."""

    def joins_many(self) -> bool:
        """Whether a join can bring in a to-many relation."""

    def keeps_conditions(self, load: Load) -> bool:
        """Whether an eager load of a relation spares lookups that have conditions next to their
        key.
        """

    def aside(self, path: Sequence[Load], limit: int) -> str:
        """How to load the last relation of a path next to it, if the lookups have conditions, or a
        `limit` that is not 0. An instruction.
        """

    def bypassed(self, load: Load) -> str:
        """What to do where a relation is loaded eagerly and then asked for past what was loaded; ''
        where that can't be. An instruction.
        """

    def relations_are_queries(self) -> bool:
        """Whether the rows of a to-many relation are asked for by a query of the application's,
        which takes calls as any other.
        """

    def loads_each_object(self) -> bool:
        """Whether a to-one relation is looked up for each object, even where several share a
        row.
        """

    def for_some(self, path: Sequence[Load], parent: Model | None, objects: int, rows: int) -> str:
        """How to load the last relation of a path for those `objects` of so many `rows` of a parent
        that are read. An instruction.
        """

    def afterwards(self, path: Sequence[Load]) -> str:
        """How to load the last relation of a path for objects that are there, whatever query gave
        them; '' where there is no way.

        An instruction.
        """

    def caution(self, path: Sequence[Load]) -> str:
        """What must be minded when the last relation of a path is joined; '' where nothing."""

    def together(self, steps: Sequence[Step], query: Query) -> str:
        """All that loads these paths with a query, in one call; if the framework builds the query,
        an instruction.
        """

    def is_batched(self, step: Step, steps: Sequence[Step]) -> bool:
        """Whether the last relation of a step takes a query of its own in a call that loads all
        these steps together.
        """

    def placed(self, at: SourceLine | None, model: str, call: str) -> str:
        """A call on a query of a model that is built at this line: as it is, or where the framework
        takes it.
        """

    def without_columns(
        self,
        load: Load,
        columns: Sequence[tuple[str, str]],
        models: Models,
        path: Sequence[Load],
    ) -> str:
        """Leave columns (table, column) out of a query; keys stay in by themselves. `path` are the
        eager loads from the first query to this one, if it is one.
        """

    def only_columns(
        self,
        load: Load,
        columns: Sequence[tuple[str, str]],
        models: Models,
        path: Sequence[Load],
    ) -> str:
        """Fetch these columns (table, column) and no others; the keys are among them."""

    def named_by(
        self, load: Load, columns: Sequence[tuple[str, str]], models: Models
    ) -> tuple[str, ...]:
        """Those of the columns (table, column) that the query's own options name, by attribute: to
        such a query nothing can be added that leaves them out.
        """

    def unnamed(self, names: Sequence[str]) -> str:
        """How to take columns out of those that a query names. An instruction."""

    def widened(
        self, model: Model, columns: Sequence[str], above: Load | None, models: Models
    ) -> str:
        """Fetch columns of a model after all that a query omits. `above` is what the ORM said of
        that query: it may bring the model in by a relation.
        """

    def counted(self, parent: Model, relation: Relation, conditions: bool) -> str:
        """Parents with the number of their children, those with none with 0. A query of its own.

        With `conditions` the children are counted under conditions, which stand as `...`.
        """

    def counted_once(self, file: str, model: str) -> str:
        """How to spare the second of two equal counts of a model, asked in this file of the
        framework's; '' for any other.
        """

    def grouped(self, model: Model, column: str) -> str:
        """The number of a model's rows for each value of a column. A query of its own."""

    def paged(self, model: Model, key: str, rows: int) -> str:
        """So many rows after the last key seen."""

    def number_of(self, model: Model, whole: bool) -> str:
        """The number of rows instead of the rows: of the `whole` table a query of its own, else
        made of the query that there is.
        """

    def filtered(self, model: Model, columns: Sequence[str]) -> str:
        """A condition on columns."""

    def written(self, kind: str, model: Model, columns: Sequence[str]) -> str:
        """Many rows written at once: kind is insert, update or delete. A statement of its own."""

    def relation_of(self, name: str, relation: Relation) -> str:
        """The loaded rows of a relation of the object `name`. An expression of its own."""

    def dropped(self, path: Sequence[Load], joined: bool) -> str:
        """What to take out so that a relation is not loaded any more. An instruction."""


REGISTRY = {
    "sqlalchemy": "askless.core.advice.orm.sqlalchemy",
    "django": "askless.core.advice.orm.django",
}


def words_of(load: Load | None) -> Words | None:
    """The words of the ORM that a query came from; None if none is known, or none reaches it: a
    library reads it.
    """
    if load is None or load.orm not in REGISTRY or load.kind == "library":
        return None
    words: Words = import_module(REGISTRY[load.orm]).WORDS
    return words


def model_of(load: Load | None, name: str, models: Models) -> Model | None:
    """A model by its name."""
    return models.get((load.orm, name)) if load is not None else None


def by_model(
    load: Load, columns: Sequence[tuple[str, str]], models: Models
) -> list[tuple[Model, str, list[str]]] | None:
    """Columns by model: the model, the relation that brings it in ('' for the main one), its
    attributes.

    None if a model, the way to it or an attribute is not known.
    """
    main = models.get((load.orm, load.target))
    results: dict[str, tuple[Model, str, list[str]]] = {}
    for table, column in columns:
        of_main = main is not None and table.lower() == main.table.lower()
        model = main if of_main else by_table(load, table, models)
        if model is None or main is None or column not in model.attributes:
            return None
        relation = main.relation_to(model.name) if model is not main else None
        if model is not main and relation is None:
            return None
        name = relation.name if relation is not None else ""
        results.setdefault(model.name, (model, name, []))[2].append(model.attribute(column))
    return list(results.values())


def by_table(load: Load, table: str, models: Models) -> Model | None:
    """The model of a table, if there is just one."""
    results = [
        model for (orm, _), model in models.items() if orm == load.orm and model.table == table
    ]
    return results[0] if len(results) == 1 else None
