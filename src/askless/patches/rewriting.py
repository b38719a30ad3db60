"""A file's text with the calls of edits in it; formatting, comments and line ends stay."""

from __future__ import annotations

from functools import lru_cache
from typing import Any, TypeVar

import libcst as cst

from askless.core.findings.finding import Edit
from askless.patches.names import NoName, bound, names_in, wanted, with_imports
from askless.patches.places import NoPlace, Places, model_in, name_of, walk

_HOLE = "askless_query"
Tree = TypeVar("Tree", bound=cst.CSTNode)


class NotPatchable(Exception):
    """An edit can't be made safely. The text says why."""


@lru_cache(maxsize=64)
def _places_of(text: bytes) -> Places:
    """The places of a file, which take seconds where it is long: a trial asks for them again and
    again. Raises NotPatchable.
    """
    try:
        module = cst.parse_module(text)
    except (cst.ParserSyntaxError, UnicodeDecodeError, SyntaxError, LookupError) as error:
        raise NotPatchable("the file is not Python that can be read") from error
    if module.bytes != text:
        raise NotPatchable("the file can't be kept byte for byte")
    return Places(module)


class Source:
    """A file's text as a syntax tree. Raises NotPatchable if it is not Python."""

    def __init__(self, text: bytes) -> None:
        self._places = _places_of(text)
        self._changes: dict[cst.BaseExpression, list[cst.BaseExpression]] = {}
        self._imports: dict[str, str] = {}

    def put(self, edit: Edit) -> tuple[range, bool]:
        """Put the call of an edit to its query: the lines of the query (from 0), and whether it
        imports something. Raises NotPatchable, and has changed nothing.
        """
        call = call_of(edit)
        try:
            node = self._places.query_of(edit)
            call = _as_named(call, node, edit)
            imports = self._imports_for(call, node, edit)
            if edit.is_read_by_key:
                _options_in(node)
        except (NoPlace, NoName) as error:
            raise NotPatchable(str(error)) from error
        holds = self._places.holds
        if any(holds(one, node) or holds(node, one) for one in self._changes):
            raise NotPatchable("another edit changes a part of the same query")
        self._changes.setdefault(node, []).append(call)
        self._imports |= imports
        where = self._places.lines(node)
        return range(where.start.line - 1, where.end.line), bool(imports)

    def _imports_for(
        self, call: cst.BaseExpression, node: cst.BaseExpression, edit: Edit
    ) -> dict[str, str]:
        """What the file has to import for a call. Raises NoName."""
        there = bound(self._places.module.body)
        for above in self._places.above(node):
            if isinstance(above, cst.FunctionDef):
                there |= bound(above.body.body)
        beginning = {_HOLE, "session", _prefix_of(node, edit)}
        names = [name for name in names_in(call) if name not in beginning]
        return wanted(names, edit.orm, edit.model_modules, there)

    def text(self) -> bytes:
        """The text with all calls that were put."""
        put = _Put(self._changes)
        module = self._places.module.visit(put)
        assert put.done == len(self._changes), "a call was not put"
        before = min(map(self._places.number_of, self._changes), default=0)
        return with_imports(module, self._imports, before).bytes


class _Put(cst.CSTTransformer):
    """Puts calls to expressions. `done` counts those expressions."""

    def __init__(self, changes: dict[cst.BaseExpression, list[cst.BaseExpression]]) -> None:
        super().__init__()
        self.changes = changes
        self.done = 0

    def on_leave(self, original_node: Any, updated_node: Any) -> Any:
        """Put the calls to an expression, in their order."""
        calls = self.changes.get(original_node, ())
        self.done += bool(calls)
        for call in calls:
            updated_node = _put(call, updated_node)
        return updated_node


def replaced(tree: cst.CSTNode, old: cst.CSTNode, new: cst.CSTNode, kind: type[Tree]) -> Tree:
    """A tree of a kind with another node in the place of one of its own."""
    changed = tree.deep_replace(old, new)
    assert isinstance(changed, kind)
    return changed


def call_of(edit: Edit) -> cst.Call:
    """The call as an expression, with a name in the place of the query. Raises NotPatchable."""
    code = edit.code
    if not code:
        raise NotPatchable("the advice is not one call")
    if not edit.is_call:
        raise NotPatchable("the advice is words, not a call")
    if not edit.is_read_by_key and "..." in code:
        raise NotPatchable("the advice leaves something to be filled in")
    try:
        call = cst.parse_expression(code if edit.is_read_by_key else _HOLE + code)
    except cst.ParserSyntaxError as error:
        raise NotPatchable("the advice is words, not a call") from error
    if not isinstance(call, cst.Call):
        raise NotPatchable("the advice is words, not a call")
    return call


def _as_named(call: cst.Call, node: cst.BaseExpression, edit: Edit) -> cst.Call:
    """The call with its models as the query names them: `models.Vessel` where it does so."""
    model = model_in(node, edit.model) if edit.orm == "sqlalchemy" else None
    if not isinstance(model, cst.Attribute):
        return call
    own = edit.model_modules.get(edit.model)
    alike = {name for name, module in edit.model_modules.items() if module == own}
    changed = call.visit(_Prefix(model.value, alike | {edit.model}, call))
    assert isinstance(changed, cst.Call)
    return changed


class _Prefix(cst.CSTTransformer):
    """Puts a prefix to names, but to those that are attributes or keywords."""

    def __init__(self, prefix: cst.BaseExpression, names: set[str], tree: cst.CSTNode) -> None:
        super().__init__()
        self.prefix, self.names = prefix, names
        self.passed: set[cst.CSTNode] = set()
        for node in walk(tree):
            if isinstance(node, cst.Attribute):
                self.passed.add(node.attr)
            elif isinstance(node, cst.Arg) and node.keyword is not None:
                self.passed.add(node.keyword)

    def on_leave(self, original_node: Any, updated_node: Any) -> Any:
        """Put the prefix to one of the names."""
        is_name = isinstance(original_node, cst.Name) and original_node not in self.passed
        if is_name and original_node.value in self.names:
            return cst.Attribute(self.prefix.deep_clone(), updated_node)
        return updated_node


def _prefix_of(node: cst.BaseExpression, edit: Edit) -> str:
    """The name that the query itself names its model by first; '' where it names none."""
    model: cst.CSTNode | None = model_in(node, edit.model) if edit.orm == "sqlalchemy" else None
    while isinstance(model, cst.Attribute):
        model = model.value
    return name_of(model) if model is not None else ""


def _put(call: cst.BaseExpression, query: cst.BaseExpression) -> cst.BaseExpression:
    """The call with the query in the place of that name; of `session.get` its options alone."""
    hole = _first(call)
    if name_of(hole) != _HOLE:
        return _with_options(query, call)
    return replaced(call, hole, query, cst.Call)


def _first(node: cst.CSTNode) -> cst.CSTNode:
    """What a chain of calls begins with."""
    while isinstance(node, cst.Call | cst.Attribute):
        node = node.func if isinstance(node, cst.Call) else node.value
    return node


def _options_in(node: cst.BaseExpression) -> cst.List | None:
    """The list of options that `session.get(...)` has. Raises NoPlace if they are no list there."""
    assert isinstance(node, cst.Call)
    for arg in node.args:
        if arg.star:
            raise NoPlace("the call's arguments are not written there")
        if arg.keyword is not None and arg.keyword.value == "options":
            if not isinstance(arg.value, cst.List):
                raise NoPlace("the call's options are made elsewhere")
            return arg.value
    return None


def _with_options(node: cst.BaseExpression, call: cst.BaseExpression) -> cst.BaseExpression:
    """`session.get(...)` with more options."""
    assert isinstance(node, cst.Call) and isinstance(call, cst.Call)
    more = next(
        arg.value for arg in call.args if arg.keyword is not None and arg.keyword.value == "options"
    )
    assert isinstance(more, cst.List)
    there = _options_in(node)
    comma = cst.Comma(whitespace_after=cst.SimpleWhitespace(" "))
    if there is not None:
        elements = [*(one.with_changes(comma=comma) for one in there.elements), *more.elements]
        return replaced(node, there, there.with_changes(elements=elements), cst.Call)
    nothing = cst.SimpleWhitespace("")
    last = node.args[-1]
    added = cst.Arg(
        more,
        cst.Name("options"),
        equal=cst.AssignEqual(nothing, nothing),
        comma=last.comma,
        whitespace_after_arg=last.whitespace_after_arg,
    )
    before = last.with_changes(comma=comma, whitespace_after_arg=nothing)
    return node.with_changes(args=[*node.args[:-1], before, added])
