"""SQLAlchemy 1.4 and 2: what the ORM was about when it sent a query, from its public events.

`do_orm_execute` says whether a query loads a relation and for whom; it marks the execution with an
option of ours. `do_execute` reads the mark just before the driver is called, on the same thread.
With `--track-use`, the event `load` marks each object, and reading an attribute that SQLAlchemy
instruments is noted, and so is what uses an object without reading any (a comparison, a set).
"""

import sys
from contextvars import ContextVar
from functools import wraps
from weakref import WeakKeyDictionary, WeakSet

from .. import object_use, recorder, stack, strict

_OPTION = "askless_load"
_BUILT = "askless_built"  # of a statement, which copies keep: the line that began it
_names = WeakKeyDictionary()  # class -> its name
_compiling = ContextVar("askless_compiling", default=None)
# (class, attribute) -> "table.column", "" for a relation, None for anything else
_column_names = {}
_tracked = WeakSet()  # classes whose objects are watched for uses that read no attribute
_files = {}  # file name -> whether it is SQLAlchemy's


def _name(mapper):
    """The name of a model, which is described to the capture once; it is kept on the mapper, as
    each query asks for it.
    """
    try:
        return mapper._askless_name
    except AttributeError:
        name = _named(mapper.class_)
        if ("sqlalchemy", name) not in recorder.models:
            recorder.models["sqlalchemy", name] = lambda: _described(mapper)
        mapper._askless_name = name
        return name


def _named(cls):
    """The name of a class, with its module's where another class has that name already."""
    name = _names.get(cls)
    if name is None:
        name = cls.__name__
        if name in _names.values():
            name = "%s.%s" % (cls.__module__, name)
        _names[cls] = name
    return name


def _described(mapper):
    """Table, attributes, keys and relations of a model."""
    columns = {}
    for prop in mapper.column_attrs:
        columns.setdefault(getattr(prop.columns[0], "name", ""), prop.key)
    relations = {}
    for prop in mapper.relationships:
        relations[prop.key] = [
            _named(prop.mapper.class_),
            bool(prop.uselist),
            sorted(column.name for column in prop.local_columns),
            sorted(column.name for column in prop.remote_side) if prop.secondary is None else [],
            prop.secondary.name if prop.secondary is not None else "",
        ]
    return {
        "table": getattr(mapper.local_table, "name", ""),
        "keys": [column.name for column in mapper.primary_key],
        "needed": [
            column.name
            for column in (mapper.polymorphic_on, mapper.version_id_col)
            if isinstance(getattr(column, "name", None), str)
        ],
        "attributes": columns,
        "relations": relations,
        "module": mapper.class_.__module__,
        "base": _name(mapper.inherits) if mapper.inherits is not None else "",
    }


def _describe(state):
    """(orm, kind, model, relation, target, many, columns that its options name) of an ORM
    execution, or None if it is no SELECT of entities.
    """
    mapper = state.bind_mapper
    target = _name(mapper) if mapper is not None else ""
    if not state.is_select:
        return ("sqlalchemy", "write", target, "", target, True) if target else None
    if state.is_column_load:  # of objects that a relation brought, too
        return "sqlalchemy", "refresh", target, "", target, False
    named = _named_by(state.statement)
    if state.is_relationship_load:
        prop, parent = _relation(state.loader_strategy_path)
        if prop is not None:
            kind = "lazy" if state.lazy_loaded_from is not None else "eager"
            return (
                "sqlalchemy",
                kind,
                _name(parent),
                prop.key,
                _name(prop.mapper),
                bool(prop.uselist),
                *named,
            )
    if state.lazy_loaded_from is not None:
        return "sqlalchemy", "lazy", _name(state.lazy_loaded_from.mapper), "", target, False
    return ("sqlalchemy", "query", target, "", target, not _is_get(state), *named)


def _is_get(state):
    """Whether `Session.get` asks: it names its parameters after the primary key, and takes options
    as an argument, not by a call on a query.
    """
    parameters = state.parameters
    return isinstance(parameters, dict) and "pk_1" in parameters


def _named_by(statement):
    """The columns that `load_only` and `undefer` name, and those that `defer` does, as
    (("Vessel.flag", ...), (...)); () for none. SQLAlchemy refuses an option that says otherwise.
    """
    fetched, deferred = set(), set()
    for option in getattr(statement, "_with_options", ()):
        for element in getattr(option, "context", ()):
            attribute = element.path[-1]
            is_deferred = dict(getattr(element, "strategy", None) or ()).get("deferred")
            if is_deferred is not None and isinstance(getattr(attribute, "key", None), str):
                name = "%s.%s" % (attribute.parent.class_.__name__, attribute.key)
                (deferred if is_deferred else fetched).add(name)
    return (tuple(sorted(fetched)), tuple(sorted(deferred))) if fetched or deferred else ()


def _relation(path):
    """The last relation on a loader path, with the mapper that it depends on."""
    relation = parent = None
    previous = None
    for element in path or ():
        if hasattr(element, "uselist") and hasattr(element, "key"):
            relation, parent = element, previous
        elif hasattr(element, "class_"):
            previous = element
        elif hasattr(element, "mapper"):
            previous = element.mapper
    if relation is not None:
        parent = relation.parent
    return relation, parent


def _as_without_events(state):
    """An event on executions makes SQLAlchemy 2 work out the options twice, and an eager load then
    takes the `yield_per` of the query above it, which it refuses: take that back.
    """
    try:
        options = state.local_execution_options
        if "sa_top_level_orm_context" in options and options.get("yield_per") is not None:
            state.update_execution_options(yield_per=None)
    except Exception as error:
        recorder.warn_once("can't restore an option: %s: %s" % (type(error).__name__, error))


def _before_orm(state):
    load = None
    _as_without_events(state)
    try:
        if recorder.active:
            load = _describe(state)
            mark = load
            if load is not None and recorder.tracking and load[1] != "write":
                mark = (load, object_use.ObjectUse())
            options = {_OPTION: mark}
            if load is not None and load[1] == "query":
                options[_BUILT] = getattr(state.statement, _BUILT, None) or _compiling.get()
            state.update_execution_options(**options)
    except Exception as error:
        recorder.warn_once("can't tell the ORM's relations: %s: %s" % (type(error).__name__, error))
    if load is not None and strict.watching and load[1] == "lazy":
        strict.check(load)


def _before_execute(cursor, statement, parameters, context):
    try:
        mark = None
        if context is not None:  # a dialect that asks while it gets to know its server has none
            options = context.execution_options
            mark = options.get(_OPTION)
            if mark is None and (context.isinsert or context.isupdate or context.isdelete):
                mark = _written(context)
            if mark is not None:
                built = options.get(_BUILT)
                if built is not stack.built.get():
                    stack.built.set(built)
                compiled = context.compiled
                if compiled is not None and not hasattr(compiled, "_askless_mentioned"):
                    _mention_joined(compiled)
        if mark is not None or recorder.pending.get() is not None:
            recorder.pending.set(mark)
    except Exception as error:
        recorder.warn_once("can't tell the ORM's relations: %s: %s" % (type(error).__name__, error))


def _before_execute_no_params(cursor, statement, context):
    _before_execute(cursor, statement, (), context)


def _mention_joined(compiled):
    """The models of relations that are joined get described too."""
    try:
        compiled._askless_mentioned = True
        for key in getattr(compiled.compile_state, "attributes", ()):
            for element in key[1] if key[0] == "loader" else ():
                mapper = getattr(element, "mapper", None)
                if mapper is not None:
                    recorder.mention("sqlalchemy", _name(mapper))
    except Exception:
        pass


def _before_compile(query):
    """A `Query` is about to be sent; its statement is made only now."""
    _compiling.set(vars(query).get(_BUILT))


def _built_at(cls):
    plain = cls.__init__

    @wraps(plain)
    def init(self, *args, **kwargs):
        plain(self, *args, **kwargs)
        if recorder.active:
            vars(self)[_BUILT] = stack.nearest(sys._getframe(1))

    cls.__init__ = init


def _written(context):
    """What a flush writes: the model of the statement's table, if the ORM says."""
    try:
        mapper = context.compiled.compile_state.dml_table._annotations.get("parententity")
        if mapper is not None:
            name = _name(mapper)
            return "sqlalchemy", "write", name, "", name, True
    except Exception:
        pass
    return None


def _column_of(cls, name):
    key = (cls, name)
    if key not in _column_names:
        column_name = None
        try:
            mapper = cls.__mapper__
            if name in mapper.columns:
                column = mapper.columns[name]
                column_name = "%s.%s" % (column.table.name, column.name)
            elif name in mapper.relationships:
                column_name = ""
        except Exception:
            pass
        _column_names[key] = column_name
    return _column_names[key]


def _loaded(state, context):
    """An object has been made from a row."""
    try:
        # what comes from elsewhere (merge() without loading, a cache) has no context
        mark = context.execution_options.get(_OPTION) if context is not None else None
        if mark is not None and type(mark[0]) is tuple:
            cls = state.class_
            entity = mark[1].entities.get(cls)
            if entity is None:
                if cls not in _tracked:
                    _track_class(cls)
                entity = mark[1].entity(cls, _column_of)
            entity.objects += 1
            state._askless_mark = [entity, 0]
    except Exception as error:
        recorder.warn_once("can't track what is read: %s: %s" % (type(error).__name__, error))


def _deleted(session, instance):
    _used_as_itself(instance)


def _track(attribute):
    plain_get, plain_set = attribute.__get__, attribute.__set__
    read = object_use.read

    @wraps(plain_get)
    def get(self, instance, owner):
        if instance is not None:
            try:
                mark = instance._sa_instance_state._askless_mark
            except AttributeError:
                pass
            else:
                read(mark, type(instance), self.key)
        return plain_get(self, instance, owner)

    @wraps(plain_set)
    def assign(self, instance, value):
        for one in value if isinstance(value, (list, set, tuple)) else (value,):
            _used_as_itself(one)
        plain_set(self, instance, value)

    attribute.__get__ = get
    attribute.__set__ = assign


def _used_as_itself(value):
    """An object, if it is one, was used although none of its attributes was read."""
    state = getattr(value, "_sa_instance_state", None)
    mark = getattr(state, "_askless_mark", None)
    if mark is not None:
        object_use.read(mark, state.class_, "")


def _used_whole(attributes):
    """All that an object holds was taken. `attributes` is its `__dict__`."""
    state = attributes.get("_sa_instance_state")
    mark = getattr(state, "_askless_mark", None)
    if mark is not None:
        for name in list(attributes):
            object_use.read(mark, state.class_, name)


def _track_comparisons(comparator):
    """`Berth.quay == quay` takes the key of `quay` only once the statement is sent."""
    for name in ("__eq__", "__ne__", "contains"):
        setattr(comparator, name, _comparing(getattr(comparator, name)))


def _comparing(plain):
    @wraps(plain)
    def compare(self, other, *args, **kwargs):
        _used_as_itself(other)
        return plain(self, other, *args, **kwargs)

    return compare


def _track_class(cls):
    """Objects of this class that are put into a set or a dictionary, or whose `__dict__` is taken
    (pickle, copy, vars()), are used. A subclass inherits this: to wrap it again would make our own
    code the caller.
    """
    inherits = any(base in _tracked for base in cls.__mro__[1:])
    _tracked.add(cls)
    if inherits:
        return
    plain = cls.__getattribute__

    def getattribute(self, name):
        if name != "__dict__":
            return plain(self, name)
        value = plain(self, name)
        caller = sys._getframe(1).f_code
        # A descriptor, such as cached_property, keeps its own value there.
        if caller.co_name not in ("__get__", "__set__", "__delete__") and not _is_orm(caller):
            _used_whole(value)
        return value

    type.__setattr__(cls, "__getattribute__", getattribute)
    plain_reduce = cls.__reduce_ex__

    @wraps(plain_reduce)
    def reduce_ex(self, protocol):
        _used_whole(plain(self, "__dict__"))
        return plain_reduce(self, protocol)

    type.__setattr__(cls, "__reduce_ex__", reduce_ex)
    if cls.__hash__ is object.__hash__:

        def hashed(self):
            if not _is_orm(sys._getframe(1).f_code):
                _used_as_itself(self)
            return object.__hash__(self)

        type.__setattr__(cls, "__hash__", hashed)


def _is_orm(code):
    """Whether SQLAlchemy itself looks at an object."""
    known = _files.get(code.co_filename)
    if known is None:
        known = "/sqlalchemy/" in code.co_filename.replace("\\", "/")
        _files[code.co_filename] = known
    return known


def install(module):
    """Listen on every session and every engine, those made later included."""
    from sqlalchemy import event
    from sqlalchemy.engine import Engine
    from sqlalchemy.sql.selectable import Select

    event.listen(module.Session, "do_orm_execute", _before_orm)
    # The dialect's events, not the engine's: once anybody listens to those, each connection takes a
    # third more time.
    event.listen(Engine, "do_execute", _before_execute)
    event.listen(Engine, "do_executemany", _before_execute)
    event.listen(Engine, "do_execute_no_params", _before_execute_no_params)
    event.listen(module.Query, "before_compile", _before_compile)
    _built_at(Select)
    _built_at(module.Query)
    if recorder.tracking:
        from sqlalchemy.orm.attributes import InstrumentedAttribute

        event.listen(module.Mapper, "load", _loaded, raw=True)
        event.listen(module.Session, "persistent_to_deleted", _deleted)
        _track(InstrumentedAttribute)
        _track_comparisons(module.RelationshipProperty.Comparator)
