"""What the call of an edit names, and how a file gets it: by an import that is there already, by
one more name in it, or by a new one.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import libcst as cst
from libcst.helpers import get_full_name_for_node

_FUNCTIONS = {
    "sqlalchemy": (
        "sqlalchemy.orm",
        {
            "selectinload",
            "joinedload",
            "defaultload",
            "lazyload",
            "defer",
            "undefer",
            "load_only",
            "selectin_polymorphic",
        },
    ),
    "django": ("django.db.models", {"Prefetch", "Count", "Q"}),
}


class NoName(Exception):
    """The file has no way to something that the call names. The text says why."""


def module_of(name: str, orm: str) -> str:
    """The module of an ORM that a function or class is imported from; '' if it is none of its."""
    module, names = _FUNCTIONS.get(orm, ("", set()))
    return module if name in names else ""


def names_in(call: cst.BaseExpression) -> list[str]:
    """The names that an expression reads, each once, in order."""
    names: dict[str, None] = {}
    waiting: list[cst.CSTNode] = [call]
    while waiting:
        node = waiting.pop(0)
        if isinstance(node, cst.Attribute | cst.Arg):
            waiting.insert(0, node.value)
        elif isinstance(node, cst.Name):
            names[node.value] = None
        else:
            waiting[:0] = node.children
    return list(names)


def bound(body: Iterable[cst.CSTNode]) -> dict[str, str]:
    """The names that the statements of a body bind as they run, each with the module that it is
    imported from, '' for what is defined there. What only a type checker imports is not bound.
    """
    results: dict[str, str] = {}
    for statement in body:
        if isinstance(statement, cst.FunctionDef | cst.ClassDef):
            results[statement.name.value] = ""
        elif isinstance(statement, cst.SimpleStatementLine):
            for small in statement.body:
                results |= _bound_by(small)
        elif isinstance(statement, cst.Try):
            results |= bound(statement.body.body)
    return results


def _bound_by(small: cst.BaseSmallStatement) -> dict[str, str]:
    if isinstance(small, cst.ImportFrom) and not isinstance(small.names, cst.ImportStar):
        module = _imported_from(small)
        return {alias.evaluated_alias or alias.evaluated_name: module for alias in small.names}
    if isinstance(small, cst.Import):
        return {
            (alias.evaluated_alias or alias.evaluated_name.split(".")[0]): alias.evaluated_name
            for alias in small.names
        }
    if isinstance(small, cst.Assign):
        return {one.target.value: "" for one in small.targets if isinstance(one.target, cst.Name)}
    return {}


def _imported_from(statement: cst.ImportFrom) -> str:
    """The module, with a dot in front for each of a relative one."""
    module = get_full_name_for_node(statement.module) if statement.module is not None else ""
    return "." * len(statement.relative) + (module or "")


def is_module(written: str, module: str) -> bool:
    """Whether what an import names may be this module: a relative name is the end of it."""
    if not written.startswith("."):
        return written == module
    rest = written.lstrip(".")
    return bool(rest) and (module == rest or module.endswith("." + rest))


def wanted(
    names: Iterable[str], orm: str, models: Mapping[str, str], there: Mapping[str, str]
) -> dict[str, str]:
    """The imports that a file needs, by name with their modules. Raises NoName.

    A model's module is imported only by a file that imports from it already: any other import may
    close a circle.
    """
    results = {}
    for name in names:
        module = module_of(name, orm)
        if name in there:
            own = there[name]
            if module and own.split(".")[0] not in (module.split(".")[0], ""):
                raise NoName(f"{name} is another thing in this file")
            if module and not own:
                raise NoName(f"{name} is defined in this file as something else")
        elif module:
            results[name] = module
        elif name in models and any(is_module(one, models[name]) for one in there.values()):
            results[name] = models[name]
        else:
            raise NoName(f"{name} is not imported in this file")
    return results


def with_imports(module: cst.Module, names: Mapping[str, str], before: int) -> cst.Module:
    """A file that imports these names at its top: in an import of their module that is there, else
    in one of its own after the last import. They are needed by the statement of the number
    `before`.
    """
    waiting = dict(names)
    body = list(module.body)
    for number, statement in enumerate(body[:before]):
        small = statement.body[0] if isinstance(statement, cst.SimpleStatementLine) else None
        if isinstance(small, cst.ImportFrom) and not isinstance(small.names, cst.ImportStar):
            written = _imported_from(small)
            mine = [name for name, one in waiting.items() if is_module(written, one)]
            if mine:
                body[number] = statement.deep_replace(small, _with_more(small, mine))  # type: ignore[arg-type]
                waiting = {name: one for name, one in waiting.items() if name not in mine}
    by_module: dict[str, list[str]] = {}
    for name, one in waiting.items():
        by_module.setdefault(one, []).append(name)
    at = _after_imports(body, before)
    for number, (one, several) in enumerate(by_module.items()):
        body.insert(at + number, cst.parse_statement(f"from {one} import {', '.join(several)}"))
    return module.with_changes(body=body)


def _with_more(statement: cst.ImportFrom, names: Iterable[str]) -> cst.ImportFrom:
    """An import with more names behind those that are there, set apart as they are."""
    assert not isinstance(statement.names, cst.ImportStar)
    aliases = list(statement.names)
    for name in names:
        comma = cst.Comma(whitespace_after=cst.SimpleWhitespace(" "))
        last = aliases[-1]
        aliases[-1] = last.with_changes(comma=aliases[-2].comma if len(aliases) > 1 else comma)
        aliases.append(cst.ImportAlias(cst.Name(name), comma=last.comma))
    return statement.with_changes(names=aliases)


def _after_imports(
    body: list[cst.SimpleStatementLine | cst.BaseCompoundStatement], before: int
) -> int:
    """The place after the imports that a file begins with, at least after its docstring."""
    at = int(bool(body) and _is_docstring(body[0]))
    for number, statement in enumerate(body[:before]):
        if isinstance(statement, cst.FunctionDef | cst.ClassDef):
            break
        if isinstance(statement, cst.SimpleStatementLine) and isinstance(
            statement.body[0], cst.Import | cst.ImportFrom
        ):
            at = number + 1
    return at


def _is_docstring(statement: cst.CSTNode) -> bool:
    first = statement.body[0] if isinstance(statement, cst.SimpleStatementLine) else None
    return isinstance(first, cst.Expr) and isinstance(
        first.value, cst.SimpleString | cst.ConcatenatedString
    )
