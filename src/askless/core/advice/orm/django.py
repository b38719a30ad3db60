"""Django's words."""

from __future__ import annotations

from collections.abc import Sequence

from askless.core.advice.orm import Query, Step, bare, by_model, longest
from askless.core.findings.finding import SourceLine
from askless.core.inference.context import Models
from askless.core.records.model import Load, Model, Relation

_ADMIN = "/django/contrib/admin/"
_HOOKS = ("formfield_for_foreignkey", "formfield_for_manytomany")  # which give a field its choices


def _joins_and_batches(steps: Sequence[Step]) -> tuple[list[Sequence[Load]], list[Sequence[Load]]]:
    """The paths of select_related and those of prefetch_related."""
    longest_joins = [step.path for step in longest([step for step in steps if step.join])]
    joins: list[Sequence[Load]] = [path for path in longest_joins if not _many_above(path)]
    batches = [
        step
        for step in steps
        if (not step.join or _many_above(step.path)) and not _is_passed(step, joins)
    ]
    return joins, [step.path for step in longest(batches)]


def _is_passed(step: Step, joins: Sequence[Sequence[Load]]) -> bool:
    """Whether a join passes through the relation, and so brings it."""
    names = step.names
    return any(tuple(load.relation for load in path[: len(names)]) == names for path in joins)


def _quoted(paths: Sequence[Sequence[Load]]) -> str:
    return ", ".join(f'"{_names(path)}"' for path in paths)


def _names(path: Sequence[Load]) -> str:
    return "__".join(load.relation for load in path)


def _many_above(path: Sequence[Load]) -> bool:
    """Whether a path passes a to-many relation, so that no join takes it."""
    return any(load.many for load in path)


def _is_in_admin(at: SourceLine | None) -> bool:
    return at is not None and _ADMIN in at.file.replace("\\", "/")


def _is_list_of_admin(at: SourceLine | None) -> bool:
    """Whether the admin builds a query by a ModelAdmin's `get_queryset`: a field's choices it reads
    past it.
    """
    return _is_in_admin(at) and at is not None and "formfield" not in at.function


class Django:
    """See `Words`."""

    def batched(self, path: Sequence[Load]) -> str:
        """`prefetch_related` with the whole path."""
        return f'.prefetch_related("{_names(path)}")'

    def apart(self, load: Load) -> str:
        """Nothing: only to-one relations are joined."""
        return ""

    def subclasses(self, base: str, models: Sequence[str], path: Sequence[Load]) -> str:
        """Nothing: the link to a class's table is a relation."""
        return ""

    def recursive(self, load: Load, levels: int, query: Query) -> str:
        """The path as deep as it was seen: there is no way to say how deep it may get."""
        call = "prefetch_related" if load.many else "select_related"
        call = f'.{call}("{"__".join([load.relation] * levels)}")'
        return self.placed(query.at, query.model, call)

    def recursive_queries(self, load: Load, levels: int) -> int:
        """One for each level, unless it is joined."""
        return levels if load.many else 0

    def joined(self, path: Sequence[Load]) -> str:
        """`select_related`, which takes to-one relations only; below a to-many one, inside its
        `Prefetch`.

        A relation that is prefetched already takes no second `Prefetch`: Django refuses it. A
        generic one has no one table.
        """
        if path[-1].many or not all(load.target for load in path):
            return ""
        above = [number for number, load in enumerate(path) if load.many]
        if not above:
            return f'.select_related("{_names(path)}")'
        last = above[-1] + 1
        if any(load.kind == "eager" for load in path[:last]):
            return ""
        inner = f'{bare(path[last - 1].target)}.objects.select_related("{_names(path[last:])}")'
        return f'.prefetch_related(Prefetch("{_names(path[:last])}", queryset={inner}))'

    def joins_many(self) -> bool:
        """No join brings in a to-many relation."""
        return False

    def keeps_conditions(self, load: Load) -> bool:
        """A queryset with conditions of its own asks again, whatever was prefetched; a to-one
        relation has none.
        """
        return not load.many

    def aside(self, path: Sequence[Load], limit: int) -> str:
        """A `Prefetch` into an attribute of its own, which the loop then reads; a slice is taken of
        each object's rows, since Django 4.2.
        """
        rows = f".order_by(...)[:{limit}]" if limit else ".filter(...)"
        inner = (
            f'Prefetch("{_names(path)}", queryset={bare(path[-1].target)}.objects{rows}, '
            'to_attr="...")'
        )
        narrowed = "conditions and the order" if limit else "conditions"
        return (
            f"with the {narrowed} of the lookup, .prefetch_related({inner}); and read that "
            "attribute in the loop"
        )

    def bypassed(self, load: Load) -> str:
        """What is prefetched is given by `all()` alone."""
        return (
            f"{load.relation} is prefetched already, and filter(), values_list() and the like ask "
            f"again: read {load.relation}.all() and choose in Python, or prefetch the filtered "
            f"rows "
            f'instead, with Prefetch("{load.relation}", queryset=..., to_attr="...")'
        )

    def relations_are_queries(self) -> bool:
        """A related manager gives querysets."""
        return True

    def loads_each_object(self) -> bool:
        """There is no identity map."""
        return True

    def for_some(self, path: Sequence[Load], parent: Model | None, objects: int, rows: int) -> str:
        """`prefetch_related_objects`, which takes a list."""
        return (
            f"of {rows} rows {objects} are read: before the loop, prefetch_related_objects(those, "
            f'"{_names(path)}") of django.db.models'
        )

    def afterwards(self, path: Sequence[Load]) -> str:
        """`prefetch_related_objects`, which takes objects of one class."""
        model = bare(path[0].model)
        call = f'prefetch_related_objects(objects, "{_names(path)}")'
        return (
            f"a library reads the {model} objects: load it for all of them before the loop, "
            f"{call} of django.db.models"
        )

    def caution(self, path: Sequence[Load]) -> str:
        """Nothing: Django joins to-one relations only."""
        return ""

    def together(self, steps: Sequence[Step], query: Query) -> str:
        """`select_related` and `prefetch_related` with all paths; in the admin
        `list_select_related`, with what its own `select_related()` joins, and the end of
        `get_queryset`.
        """
        alone = self.joined(steps[0].path) if len(steps) == 1 and steps[0].join else ""
        if alone.startswith(".prefetch_related"):
            return self.placed(query.at, query.model, alone)
        joins, batches = _joins_and_batches(steps)
        prefetch = _quoted(batches)
        call = f".prefetch_related({prefetch})" if prefetch else ""
        if _is_list_of_admin(query.at) and joins:
            names = _quoted([*query.joined, *joins])
            more = f", and end get_queryset with {call}" if call else ""
            return (
                f"in the ModelAdmin of {bare(query.model)}: list_select_related = [{names}]{more}"
            )
        if joins:
            call = f".select_related({_quoted(joins)}){call}"
        return self.placed(query.at, query.model, call)

    def is_batched(self, step: Step, steps: Sequence[Step]) -> bool:
        """Whatever `select_related` does not take; inside of a `Prefetch` it takes one path
        alone.
        """
        joins, batches = _joins_and_batches(steps)
        if len(steps) == 1 and step.join and self.joined(step.path):
            return False
        return any(tuple(path[: len(step.path)]) == step.path for path in batches) and not (
            _is_passed(step, joins)
        )

    def placed(self, at: SourceLine | None, model: str, call: str) -> str:
        """The admin's lists take it at the end of `get_queryset`, its choices of a field in
        `formfield_for_foreignkey` or `formfield_for_manytomany`.
        """
        if not call.startswith(".") or not _is_in_admin(at):
            return call
        if _is_list_of_admin(at):
            return f"in the ModelAdmin of {bare(model)}, end get_queryset with {call}"
        hook = at.function if at is not None and at.function in _HOOKS else _HOOKS[0]
        return (
            f"in the ModelAdmin with the field, {hook}: "
            f'kwargs["queryset"] = {bare(model)}.objects{call}'
        )

    def without_columns(
        self,
        load: Load,
        columns: Sequence[tuple[str, str]],
        models: Models,
        path: Sequence[Load],
    ) -> str:
        """`defer`, with the relation's name in front where a join brings the column in."""
        return self._columns("defer", load, columns, models, path)

    def only_columns(
        self,
        load: Load,
        columns: Sequence[tuple[str, str]],
        models: Models,
        path: Sequence[Load],
    ) -> str:
        """`only`, the same."""
        return self._columns("only", load, columns, models, path)

    def named_by(
        self, load: Load, columns: Sequence[tuple[str, str]], models: Models
    ) -> tuple[str, ...]:
        """None: `defer` takes columns out of what `only` has named."""
        return ()

    def unnamed(self, names: Sequence[str]) -> str:
        """Nothing."""
        return ""

    def widened(
        self, model: Model, columns: Sequence[str], above: Load | None, models: Models
    ) -> str:
        """`defer(None)`, which undoes `only` and `defer`; naming the columns would undo what they
        name themselves. A relation that is prefetched has a queryset of its own.
        """
        if above is not None and above.relation:
            return f'in the Prefetch of "{above.relation}", end the queryset with .defer(None)'
        return ".defer(None)"

    def _columns(
        self,
        call: str,
        load: Load,
        columns: Sequence[tuple[str, str]],
        models: Models,
        path: Sequence[Load],
    ) -> str:
        names = [
            f'"{relation}__{name}"' if relation else f'"{name}"'
            for _, relation, attributes in by_model(load, columns, models) or ()
            for name in attributes
        ]
        if not names:
            return ""
        restricted = f".{call}({', '.join(names)})"
        if load.relation and load.kind == "eager":  # a related manager's own queryset takes it
            name = _names(path) or load.relation
            inner = f'Prefetch("{name}", queryset={bare(load.target)}.objects{restricted})'
            return f'in .prefetch_related(...), {inner} instead of "{name}"'
        return restricted

    def counted(self, parent: Model, relation: Relation, conditions: bool) -> str:
        """An annotation: parents with none stay, with 0."""
        condition = ", filter=Q(...)" if conditions else ""
        name = relation.queried or relation.name
        return (
            f'{bare(parent.name)}.objects.annotate({name}_count=Count("{name}", '
            f"distinct=True{condition}))"
        )

    def counted_once(self, file: str, model: str) -> str:
        """The admin counts all rows, and those that its filters leave."""
        if _ADMIN not in file.replace("\\", "/"):
            return ""
        return f"in the ModelAdmin of {bare(model)}: show_full_result_count = False"

    def grouped(self, model: Model, column: str) -> str:
        """`values` and `annotate`, which make a GROUP BY; an order of the model's own would split
        the groups.
        """
        name = model.attribute(column)
        return (
            f'{bare(model.name)}.objects.order_by().values("{name}").annotate(number=Count("pk"))'
        )

    def paged(self, model: Model, key: str, rows: int) -> str:
        """`filter`, `order_by` and a slice."""
        name = model.attribute(key)
        return f'.filter({name}__gt=last_seen).order_by("{name}")[:{rows}]'

    def number_of(self, model: Model, whole: bool) -> str:
        """`count()`."""
        return f"{bare(model.name)}.objects.count()" if whole else ".count()"

    def filtered(self, model: Model, columns: Sequence[str]) -> str:
        """`filter`."""
        names = ", ".join(model.attribute(column) for column in columns)
        return f".filter(...)  # on {names}, as tested in the loop"

    def written(self, kind: str, model: Model, columns: Sequence[str]) -> str:
        """The bulk methods."""
        if kind == "delete":
            return f"{bare(model.name)}.objects.filter(pk__in=keys).delete()"
        if kind == "update":
            names = ", ".join(
                f'"{model.attribute(column)}"' for column in columns if column not in model.keys
            )
            return f"{bare(model.name)}.objects.bulk_update(objects, [{names}])"
        return f"{bare(model.name)}.objects.bulk_create([{bare(model.name)}(...) for ... in ...])"

    def relation_of(self, name: str, relation: Relation) -> str:
        """The attribute, or `all()` of a to-many relation: anything else is a new query."""
        return f"{name}.{relation.name}.all()" if relation.many else f"{name}.{relation.name}"

    def dropped(self, path: Sequence[Load], joined: bool) -> str:
        """The name in `select_related` or `prefetch_related`."""
        call = "select_related" if joined else "prefetch_related"
        return f'remove "{_names(path)}" from .{call}(...)'


WORDS = Django()
