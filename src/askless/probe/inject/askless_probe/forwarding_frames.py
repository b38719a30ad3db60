"""Lines that only pass a call on: a middleware's `get_response(request)`, a decorator's
`function(*args)`, a helper that executes whatever statement it is given, or hands what it is given
to a thread. They are never the line to change.

Decided once for each line, from its source. What can't be read is taken for a line like any other.
"""

import ast
import linecache

# What comes next by custom: as an attribute of `self`, or as a name of the function around.
_NEXT = (
    "get_response", "app", "application", "wrapped", "inner", "next", "handler", "func", "function",
    "fn", "f", "callback", "call_next",
)  # fmt: skip
_HANDS = (
    "run_in_executor",
    "to_thread",
    "submit",
    "run_sync",
    "apply_async",
    "run_coroutine_threadsafe",
)
_RUNS = (
    "execute", "executemany", "exec_driver_sql", "execute_sql", "fetch", "fetchrow", "fetchval",
    "fetch_all", "fetch_one", "scalars", "scalar", "execute_fetchall",
)  # fmt: skip


def passes_on(code, line, span):
    """Whether the call at a line of a code object, and at these columns of it if they are known,
    only passes on.
    """
    call = _call_at(code.co_filename, line, span)
    if call is None:
        return False
    own = set(
        code.co_varnames[
            : code.co_argcount
            + code.co_kwonlyargcount
            + bool(code.co_flags & 4)
            + bool(code.co_flags & 8)
        ]
    )
    given = _given(call)
    target = call.func
    if isinstance(target, ast.Name):
        if target.id in own:
            return given is not None and given <= own
        return target.id in code.co_freevars and (
            target.id in _NEXT or bool(given) and given <= own
        )
    if isinstance(target, ast.Attribute):
        if (
            isinstance(target.value, ast.Name)
            and target.value.id == "self"
            and target.attr in _NEXT
        ):
            return True
        if target.attr in _HANDS:
            return True
        return target.attr in _RUNS and bool(given) and given <= own | set(code.co_freevars)
    return False


def _given(call):
    """The names that a call's arguments are made of; None if one is more than a name, or a choice
    between names.
    """
    plain = (
        ast.Name,
        ast.Load,
        ast.IfExp,
        ast.BoolOp,
        ast.Or,
        ast.And,
        ast.Compare,
        ast.Is,
        ast.IsNot,
        ast.Starred,
    )
    names = set()
    for value in list(call.args) + [keyword.value for keyword in call.keywords]:
        for node in ast.walk(value):
            if isinstance(node, ast.Name):
                names.add(node.id)
            elif isinstance(node, ast.Constant):
                if isinstance(node.value, (str, bytes)):
                    return None
            elif isinstance(node, (ast.Dict, ast.Tuple, ast.List)):
                if getattr(node, "keys", None) or getattr(node, "elts", None):
                    return None
            elif not isinstance(node, plain):
                return None
    return names


def _call_at(filename, line, span):
    """The call of a source line: the one at these columns, or the only one."""
    if span is not None:
        first, last, begin, end = span
        lines = [linecache.getline(filename, number) for number in range(first, last + 1)]
        if not all(lines):
            return None
        # Columns count bytes.
        raw = [text.encode("utf-8") for text in lines]
        raw[-1] = raw[-1][:end]
        raw[0] = raw[0][begin:]
        text = "(" + b"".join(raw).decode("utf-8", "replace") + ")"
    else:
        text = linecache.getline(filename, line).strip()
    try:
        (tree,) = ast.parse(text).body
    except (SyntaxError, ValueError):
        return None
    tree = tree.value if isinstance(tree, ast.Expr) else tree
    tree = tree.value if isinstance(tree, ast.Await) else tree
    if span is not None:
        return tree if isinstance(tree, ast.Call) else None
    calls = [node for node in ast.walk(tree) if isinstance(node, ast.Call)]
    return calls[0] if len(calls) == 1 else None
