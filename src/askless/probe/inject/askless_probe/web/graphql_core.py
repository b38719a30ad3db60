"""graphql-core, on which Strawberry, Graphene and Ariadne stand: the operation's name joins the
route, and the path of the field that is being resolved is a line of code like any other.
"""

from functools import wraps

from .. import recorder, stack

_MARKED = " query ", " mutation ", " subscription "


def _operation(document, operation_name):
    """What is executed: the operation's kind and its name, or the fields at its root."""
    for definition in document.definitions:
        if definition.kind != "operation_definition":
            continue
        name = definition.name.value if definition.name else None
        if operation_name is None or name == operation_name:
            fields = [
                node.name.value
                for node in definition.selection_set.selections
                if node.kind == "field"
            ]
            return "%s %s" % (definition.operation.value, name or "{%s}" % ", ".join(fields[:3]))
    return ""


def _name(document, operation_name):
    request = recorder.current.get()
    if (
        request is not None
        and request.kind == "http"
        and not any(mark in request.route for mark in _MARKED)
    ):
        operation = _operation(document, operation_name)
        if operation:
            request.route += " " + operation


def _named(plain):
    @wraps(plain)
    def execute(*args, **kwargs):
        if recorder.active:
            try:
                document = args[1] if len(args) > 1 else kwargs["document"]
                _name(document, args[5] if len(args) > 5 else kwargs.get("operation_name"))
            except Exception as error:
                recorder.warn_once(
                    "can't name GraphQL's operations: %s: %s" % (type(error).__name__, error)
                )
        return plain(*args, **kwargs)

    return execute


def line_of(frame):
    """The field that a frame of the executor resolves: (file, line, path)."""
    if frame.f_code.co_name != "execute_field":
        return None
    known = frame.f_locals
    path = known.get("path")
    keys = []
    while path is not None:
        if isinstance(path.key, str):
            keys.append(path.key)
        path = path.prev
    nodes = known.get("field_nodes") or known.get("field_details_list") or ()
    node = getattr(nodes[0], "node", nodes[0]) if nodes else None
    line = node.loc.start_token.line if node is not None and node.loc is not None else 0
    return "<graphql>", line, ".".join(reversed(keys))


def install_execute(module):
    """Name operations as they are executed."""
    for name in ("execute", "experimental_execute_incrementally"):
        if hasattr(module, name):
            setattr(module, name, _named(getattr(module, name)))
    # 3.2 resolves fields here, newer versions in a module of their own
    if hasattr(module, "ExecutionContext"):
        stack.watch(module.__file__, line_of)


def install_executor(module):
    """Watch the frames that resolve fields."""
    stack.watch(module.__file__, line_of)
