"""SQLAlchemy's words."""

from __future__ import annotations

from collections.abc import Sequence

from askless.core.advice.orm import Query, Step, bare, by_model, longest
from askless.core.findings.finding import SourceLine
from askless.core.inference.context import Models
from askless.core.records.model import Load, Model, Relation


def _chain(path: Sequence[Load], last: str) -> str:
    """Loader options along a path: to-many relations in batches, to-one relations joined, the last
    as wanted. What the query loads already stays as it is.
    """
    calls = []
    for number, load in enumerate(path):
        strategy = "selectinload" if load.many else "joinedload"
        if number == len(path) - 1:
            strategy = last
        elif load.kind == "eager":
            strategy = "defaultload"
        calls.append(f"{strategy}({bare(load.model)}.{load.relation})")
    return ".".join(calls)


def _dotted(groups: Sequence[tuple[Model, str, list[str]]]) -> list[tuple[Model, str, list[str]]]:
    """The attributes with their class in front."""
    return [
        (model, relation, [f"{bare(model.name)}.{name}" for name in names])
        for model, relation, names in groups
    ]


def _with_options(options: Sequence[str], query: Query) -> str:
    """The call that gives a query options; `Session.get` takes them as an argument."""
    together = ", ".join(options)
    if query.by_key:
        return f"session.get({bare(query.model)}, ..., options=[{together}])"
    return f".options({together})"


class SQLAlchemy:
    """See `Words`."""

    def batched(self, path: Sequence[Load]) -> str:
        """`selectinload` at the path's end."""
        return f".options({_chain(path, 'selectinload')})"

    def apart(self, load: Load) -> str:
        """`selectinload` in place of `joinedload`."""
        relation = f"{bare(load.model)}.{load.relation}"
        return (
            f"in the query's options, selectinload({relation}) instead of joinedload({relation}); "
            "if the relation's own lazy= joins it, add "
            f".options(selectinload({relation}))"
        )

    def subclasses(self, base: str, models: Sequence[str], path: Sequence[Load]) -> str:
        """`selectin_polymorphic`."""
        classes = f"[{', '.join(map(bare, models))}]"
        if not path:
            return f".options(selectin_polymorphic({bare(base)}, {classes}))"
        above = ".".join(f"defaultload({bare(load.model)}.{load.relation})" for load in path)
        return f".options({above}.selectin_polymorphic({classes}))"

    def recursive(self, load: Load, levels: int, query: Query) -> str:
        """`selectinload` until nothing comes."""
        option = f"selectinload({bare(load.model)}.{load.relation}, recursion_depth=-1)"
        return _with_options([option], query)

    def recursive_queries(self, load: Load, levels: int) -> int:
        """One for each level."""
        return levels

    def joined(self, path: Sequence[Load]) -> str:
        """`joinedload` at the path's end."""
        return f".options({_chain(path, 'joinedload')})"

    def joins_many(self) -> bool:
        """A join may bring in a to-many relation."""
        return True

    def keeps_conditions(self, load: Load) -> bool:
        """The conditions of a lazy load are the relation's own, and an eager load has them too."""
        return True

    def aside(self, path: Sequence[Load], limit: int) -> str:
        """Nothing: a relation's conditions are its own."""
        return ""

    def bypassed(self, load: Load) -> str:
        """Nothing: an attribute that is loaded is not asked for again."""
        return ""

    def relations_are_queries(self) -> bool:
        """An attribute loads itself."""
        return False

    def loads_each_object(self) -> bool:
        """The session holds each row once."""
        return False

    def for_some(self, path: Sequence[Load], parent: Model | None, objects: int, rows: int) -> str:
        """The same objects by their keys, with the option: the session fills those that it has."""
        model = bare(path[0].model)
        option = self.batched(path)
        key = parent.attribute(parent.keys[0]) if parent is not None and parent.keys else "id"
        return (
            f"of {rows} rows {objects} are read: before the loop, session.scalars(select({model})"
            f".where({model}.{key}.in_(keys)){option}).all() with the keys of those"
        )

    def afterwards(self, path: Sequence[Load]) -> str:
        """No call does."""
        return ""

    def caution(self, path: Sequence[Load]) -> str:
        """Joined collections must be made unique by hand."""
        return (
            "a joined collection needs .unique() on the result"
            if any(load.many for load in path[-1:])
            else ""
        )

    def together(self, steps: Sequence[Step], query: Query) -> str:
        """One `options` with a chain for each path."""
        chains = [
            _chain(step.path, "joinedload" if step.join else "selectinload")
            for step in longest(steps)
        ]
        return _with_options(chains, query)

    def is_batched(self, step: Step, steps: Sequence[Step]) -> bool:
        """As wanted, at the end of a chain; above it only to-many relations are."""
        return step.path[-1].many if step not in longest(steps) else not step.join

    def placed(self, at: SourceLine | None, model: str, call: str) -> str:
        """As it is."""
        return call

    def without_columns(
        self,
        load: Load,
        columns: Sequence[tuple[str, str]],
        models: Models,
        path: Sequence[Load],
    ) -> str:
        """`defer`, below the relation that brings the columns in."""
        groups = by_model(load, columns, models) or []
        return self._options(
            load,
            path,
            [
                (model, name, [f"defer({a})" for a in every])
                for model, name, every in _dotted(groups)
            ],
        )

    def only_columns(
        self,
        load: Load,
        columns: Sequence[tuple[str, str]],
        models: Models,
        path: Sequence[Load],
    ) -> str:
        """`load_only`, below the relation that brings the columns in."""
        groups = by_model(load, columns, models) or []
        return self._options(
            load,
            path,
            [(model, name, [f"load_only({', '.join(e)})"]) for model, name, e in _dotted(groups)],
        )

    def named_by(
        self, load: Load, columns: Sequence[tuple[str, str]], models: Models
    ) -> tuple[str, ...]:
        """What `load_only` and `undefer` name: SQLAlchemy refuses to `defer` it in the same
        query.
        """
        attributes = [
            f"{bare(model.name)}.{name}"
            for model, _, names in by_model(load, columns, models) or ()
            for name in names
        ]
        return tuple(name for name in attributes if name in load.named)

    def unnamed(self, names: Sequence[str]) -> str:
        """Where they are named."""
        return f"take {', '.join(names)} out of the query's load_only(...) or undefer(...)"

    def widened(
        self, model: Model, columns: Sequence[str], above: Load | None, models: Models
    ) -> str:
        """`undefer`, below the relation that brings the model in; where the query itself defers a
        column, only taking that back helps.
        """
        if not all(column in model.attributes for column in columns):
            return ""
        names = [
            f"{bare(model.name)}.{model.attributes[column]}"
            for column in columns
            if column not in model.keys
        ]
        taken = [name for name in names if above is not None and name in above.deferred]
        if taken:
            return f"take defer({', '.join(taken)}) out of the query"
        prefix = self._below(model, above, models)
        if prefix is None:
            return ""
        return f".options({', '.join(f'{prefix}undefer({name})' for name in names)})"

    def _below(self, model: Model, above: Load | None, models: Models) -> str | None:
        """What leads an option from a query to a model that it brings in; None if no way is
        known.
        """
        if above is None or (not above.relation and above.target == model.name):
            return ""
        if above.relation:
            return f"defaultload({bare(above.model)}.{above.relation})."
        main = models.get((above.orm, above.target))
        relation = main.relation_to(model.name) if main is not None else None
        if main is None or relation is None:
            return None
        return f"defaultload({bare(main.name)}.{relation.name})."

    def _options(
        self, load: Load, path: Sequence[Load], groups: Sequence[tuple[Model, str, list[str]]]
    ) -> str:
        below = "".join(f"defaultload({bare(one.model)}.{one.relation})." for one in path)
        options = []
        for _, relation, calls in groups:
            above = f"{below}defaultload({bare(load.target)}.{relation})." if relation else below
            options += [above + call for call in calls]
        return f".options({', '.join(options)})" if options else ""

    def counted(self, parent: Model, relation: Relation, conditions: bool) -> str:
        """An outer join, grouped by the parent's key."""
        key = (
            f"{bare(parent.name)}.{parent.attribute(parent.keys[0])}"
            if parent.keys
            else f"{bare(parent.name)}.id"
        )
        child = bare(relation.target)
        through = f"{bare(parent.name)}.{relation.name}"
        if conditions:
            through = f"{through}.and_(...)"
        number = (
            f"func.count({child}.{relation.remote[0]})"
            if relation.remote
            else f"func.count({child}.id)"
        )
        return f"select({bare(parent.name)}, {number}).outerjoin({through}).group_by({key})"

    def counted_once(self, file: str, model: str) -> str:
        """Nothing: its counts are the application's."""
        return ""

    def grouped(self, model: Model, column: str) -> str:
        """`group_by`."""
        name = f"{bare(model.name)}.{model.attribute(column)}"
        return f"select({name}, func.count()).group_by({name})"

    def paged(self, model: Model, key: str, rows: int) -> str:
        """`where`, `order_by`, `limit`."""
        column = f"{bare(model.name)}.{model.attribute(key)}"
        return f".where({column} > last_seen).order_by({column}).limit({rows})"

    def number_of(self, model: Model, whole: bool) -> str:
        """`func.count()`."""
        source = bare(model.name) if whole else "query.order_by(None).subquery()"
        return f"select(func.count()).select_from({source})"

    def filtered(self, model: Model, columns: Sequence[str]) -> str:
        """`where`."""
        return (
            ".where("
            + ", ".join(f"{bare(model.name)}.{model.attribute(column)} ..." for column in columns)
            + ")"
        )

    def written(self, kind: str, model: Model, columns: Sequence[str]) -> str:
        """One `execute` with a list of rows."""
        key = model.attribute(model.keys[0]) if model.keys else "id"
        if kind == "delete":
            return f"session.execute(delete({bare(model.name)}).where({bare(model.name)}.{key}.in_(keys)))"
        names = [model.attribute(column) for column in columns]
        if kind == "update":
            names = [key, *(name for name in names if name != key)]
        row = ", ".join(f'"{name}": ...' for name in names[:6]) + (
            ", ..." if len(names) > 6 else ""
        )
        return f"session.execute({kind}({bare(model.name)}), [{{{row}}} for ... in ...])"

    def relation_of(self, name: str, relation: Relation) -> str:
        """The attribute."""
        return f"{name}.{relation.name}"

    def dropped(self, path: Sequence[Load], joined: bool) -> str:
        """The loader option; a model's own `lazy=` is every route's."""
        option = _chain(path, "joinedload" if joined else "selectinload")
        relation = f"{bare(path[-1].model)}.{path[-1].relation}"
        return (
            f"remove {option} from .options(...); if the relation's own lazy= loads it, leave that "
            f"to "
            f"other routes and add .options(lazyload({relation})) to this query"
        )


WORDS = SQLAlchemy()
