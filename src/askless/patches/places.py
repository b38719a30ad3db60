"""Where on the syntax tree a query is built that an edit changes."""

from __future__ import annotations

from collections.abc import Iterator

import libcst as cst
from libcst.metadata import CodeRange, MetadataWrapper, PositionProvider

from askless.core.findings.finding import Edit

# Methods of Django's querysets that its managers have too; whatever else is called on a manager is
# the application's own, and may be its manager's alone.
_OF_QUERYSETS = {
    *("all", "filter", "exclude", "order_by", "annotate", "alias", "distinct", "reverse", "using"),
    *("select_related", "prefetch_related", "defer", "only", "extra", "select_for_update", "none"),
    *("get", "first", "last", "latest", "earliest", "in_bulk", "iterator", "count", "exists"),
    *("aggregate", "values", "values_list", "dates", "datetimes", "union"),
    *("aget", "afirst", "alast", "acount", "aexists", "aiterator"),
}
_NARROWING = ("only", "defer")  # the order of these calls matters
_NO_QUERYSETS = {
    *("create", "bulk_create", "get_or_create", "update_or_create", "bulk_update", "raw"),
}


class NoPlace(Exception):
    """No expression, or not one alone, can be the query. The text says why."""


class Places:
    """The expressions of a file with their lines, and what each is a part of."""

    def __init__(self, module: cst.Module) -> None:
        self.module = module
        self._ranges = MetadataWrapper(module, unsafe_skip_copy=True).resolve(PositionProvider)
        self._parents: dict[cst.CSTNode, cst.CSTNode] = {}
        self._calls: list[cst.Attribute | cst.Call] = []
        for node in walk(module):
            if isinstance(node, cst.Attribute | cst.Call):
                self._calls.append(node)
            for child in node.children:
                self._parents[child] = node

    def query_of(self, edit: Edit) -> cst.BaseExpression:
        """The expression that the call of an edit is put to. Raises NoPlace."""
        assert edit.at is not None
        line = edit.at.line
        candidates = list(self._candidates(edit))
        there = [one for one in candidates if _covers(self.lines(one), line)]
        if not there:
            there = [one for one in candidates if self._is_in_statement(one, line)]
        # Of two that contain each other the inner one begins the query.
        there = [one for one in there if not any(self.holds(one, other) for other in there)]
        if not there:
            raise NoPlace(
                f"no query of {edit.model or 'a model'} is built there by a call of its own"
            )
        if len(there) > 1:
            raise NoPlace(f"{len(there)} queries of {edit.model} are built on the line")
        return there[0]

    def lines(self, node: cst.CSTNode) -> CodeRange:
        """Where a node begins and ends."""
        where = self._ranges[node]
        assert isinstance(where, CodeRange)
        return where

    def number_of(self, node: cst.CSTNode) -> int:
        """The place of the statement of a file that a node is in."""
        *_, statement, _ = (node, *self.above(node))
        return next(number for number, one in enumerate(self.module.body) if one is statement)

    def above(self, node: cst.CSTNode) -> Iterator[cst.CSTNode]:
        """What a node is a part of, innermost first."""
        while (above := self._parents.get(node)) is not None:
            yield above
            node = above

    def holds(self, outer: cst.CSTNode, inner: cst.CSTNode) -> bool:
        """Whether a node is a part of another."""
        return any(one is outer for one in self.above(inner))

    def _candidates(self, edit: Edit) -> Iterator[cst.BaseExpression]:
        for node in self._calls:
            if edit.orm == "sqlalchemy":
                if _is_query_of(node, edit):
                    yield node
            elif isinstance(node, cst.Call) and _is_first_call(node, edit):
                yield self._end_of_own_calls(node, edit)

    def _end_of_own_calls(self, call: cst.Call, edit: Edit) -> cst.BaseExpression:
        """Where in a chain the edit's call goes: after the application's own methods of the
        manager, else before the first call; what narrows the columns after what narrows them
        already.
        """
        assert isinstance(call.func, cst.Attribute)
        chain = [call]
        while (above := self._called_on(chain[-1])) is not None:
            chain.append(above)
        names = [name_of(one.func) for one in chain]
        after = -1
        while after + 1 < len(names) and names[after + 1] not in _OF_QUERYSETS:
            after += 1
        if edit.code.startswith(tuple(f".{name}(" for name in _NARROWING)):
            narrowing = [number for number, name in enumerate(names) if name in _NARROWING]
            after = max([after, *narrowing])
        return chain[after] if after >= 0 else call.func.value

    def _called_on(self, call: cst.Call) -> cst.Call | None:
        """The call of a method of what a call gives."""
        attribute, *further = (*self.above(call), None, None)
        is_method = isinstance(attribute, cst.Attribute) and attribute.value is call
        above = further[0]
        return (
            above if is_method and isinstance(above, cst.Call) and above.func is attribute else None
        )

    def _is_in_statement(self, node: cst.CSTNode, line: int) -> bool:
        """Whether an expression is a part of the simple statement that a line is of."""
        return any(
            isinstance(one, cst.SimpleStatementLine) and _covers(self.lines(one), line)
            for one in self.above(node)
        )


def walk(node: cst.CSTNode) -> Iterator[cst.CSTNode]:
    """A node and all that are below it."""
    waiting = [node]
    while waiting:
        one = waiting.pop()
        yield one
        waiting += reversed(one.children)


def name_of(node: cst.CSTNode) -> str:
    """The last part of a dotted name; '' for anything else."""
    if isinstance(node, cst.Attribute):
        return node.attr.value
    return node.value if isinstance(node, cst.Name) else ""


def model_in(node: cst.BaseExpression, model: str) -> cst.BaseExpression | None:
    """The expression by which SQLAlchemy's `select(...)`, `query(...)`, `get(...)` or `.query` names
    a model.
    """
    if isinstance(node, cst.Attribute):
        return node.value if name_of(node.value) == model else None
    if not isinstance(node, cst.Call):
        return None
    return next((arg.value for arg in node.args if name_of(arg.value) == model), None)


def _is_query_of(node: cst.Attribute | cst.Call, edit: Edit) -> bool:
    """Whether it is `select(Model)`, `session.query(Model)`, `Model.query`, or `session.get(Model,
    …)` where that is what the edit changes.
    """
    if isinstance(node, cst.Attribute):
        return (
            not edit.is_read_by_key
            and node.attr.value == "query"
            and name_of(node.value) == edit.model
        )
    if model_in(node, edit.model) is None:
        return False
    called = name_of(node.func)
    if edit.is_read_by_key:
        return called == "get" and name_of(node.args[0].value) == edit.model
    return called in ("select", "query")


def _is_first_call(call: cst.Call, edit: Edit) -> bool:
    """Whether a call is of the first method of a manager or queryset of the edit's model."""
    if not isinstance(call.func, cst.Attribute) or call.func.attr.value in _NO_QUERYSETS:
        return False
    base = call.func.value
    if isinstance(base, cst.Attribute):
        is_own = name_of(base.value) == edit.model
        return is_own or (bool(edit.relation) and base.attr.value == edit.relation)
    if isinstance(base, cst.Call) and isinstance(base.func, cst.Attribute):
        is_above = (
            isinstance(base.func.value, cst.Call) and name_of(base.func.value.func) == "super"
        )
        return is_above and base.func.attr.value == "get_queryset"
    return False


def _covers(where: CodeRange, line: int) -> bool:
    return where.start.line <= line <= where.end.line
