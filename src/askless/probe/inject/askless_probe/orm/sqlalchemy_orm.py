"""SQLAlchemy 1.4 and 2: what the ORM was about when it sent a query, from its public events.

`do_orm_execute` says whether a query loads a relation and for whom; it marks the execution with an option of ours.
`before_cursor_execute` reads the mark just before the driver is called, on the same thread.
"""

from _thread import get_ident

from .. import recorder

_OPTION = "askless_load"


def _describe(state):
    """(kind, model, relation, target, many) of an ORM execution, or None where it is no SELECT of entities."""
    if not state.is_select:
        return None
    target = state.bind_mapper.class_.__name__ if state.bind_mapper is not None else ""
    if state.is_relationship_load:
        prop, parent = _relation(state.loader_strategy_path)
        if prop is not None:
            kind = "lazy" if state.lazy_loaded_from is not None else "eager"
            return kind, parent.class_.__name__, prop.key, prop.mapper.class_.__name__, bool(prop.uselist)
    if state.lazy_loaded_from is not None:
        return "lazy", state.lazy_loaded_from.mapper.class_.__name__, "", target, False
    if state.is_column_load:
        return "refresh", target, "", target, False
    return "query", target, "", target, True


def _relation(path):
    """The last relation on a loader path, with the mapper that it hangs on."""
    found = parent = None
    previous = None
    for element in path or ():
        if hasattr(element, "uselist") and hasattr(element, "key"):
            found, parent = element, previous
        elif hasattr(element, "class_"):
            previous = element
        elif hasattr(element, "mapper"):
            previous = element.mapper
    if found is not None:
        parent = found.parent
    return found, parent


def _before_orm(state):
    try:
        if recorder.active:
            state.update_execution_options(**{_OPTION: _describe(state)})
    except Exception as error:
        recorder.complain("can't tell the ORM's relations: %s: %s" % (type(error).__name__, error))


def _before_cursor(connection, cursor, statement, parameters, context, executemany):
    load = context.execution_options.get(_OPTION) if context is not None else None
    if load is not None:
        recorder.pending_load[get_ident()] = load
    elif recorder.pending_load:
        recorder.pending_load.pop(get_ident(), None)


def install(module):
    """Listen on every session and every engine, those made later included."""
    from sqlalchemy import event
    from sqlalchemy.engine import Engine

    event.listen(module.Session, "do_orm_execute", _before_orm)
    event.listen(Engine, "before_cursor_execute", _before_cursor)
