"""Django's ORM: what it was about when it sent a query.

Querysets of a relation carry a mark on their `Query`, which clones keep; the compiler reads it as
it sends the query.
"""

import sys
from _thread import get_ident
from contextlib import suppress
from functools import wraps

from .. import object_use, recorder, stack, strict

_MARK = "_askless_load"  # on a Query
_BUILT = "_askless_built"  # on a Query: the line that began it
_GIVEN = "_askless_given"  # on a Query: the code of a manager's method through which it came
_ASIDE = "_askless_aside"  # on a Query: a library began it of its own accord
_START = "_askless_start"  # on a Query: what a relation's manager made it ask
_FETCHED = "_askless_fetched"  # on a Query: its rows are there; clones of it are new queries
_NEAR = 16  # frames that are looked at for a manager's method
_managing = {}  # model -> the code of its managers' methods
_names = {}  # class -> its name
forced = {}  # thread id -> what the query about to be sent is for, if its `Query` can't tell
uses = {}  # thread id -> the use of the query that was sent last


def _model(cls):
    """The name of a model, which is described to the capture once."""
    name = _names.get(cls)
    if name is None:
        name = _names[cls] = _named_through(cls) if cls._meta.auto_created else _named(cls._meta)
    if ("django", name) not in recorder.models:
        recorder.models["django", name] = lambda: _described(cls._meta)
    return name


def _named(meta):
    """The name of a model, with its application's where another one has a model of that name."""
    name = meta.object_name
    alike = [other for other in meta.apps.get_models() if other._meta.object_name == name]
    return name if len(alike) < 2 else meta.label


def _named_through(cls):
    """A link table that Django made by itself goes by the field that it belongs to."""
    for field in cls._meta.auto_created._meta.many_to_many:
        if field.remote_field.through is cls:
            return "%s.%s.through" % (cls._meta.auto_created._meta.object_name, field.name)
    return cls._meta.object_name


def _described(meta):
    """Table, attributes, keys and relations of a model."""
    relations = {}
    for field in meta.get_fields():
        if field.is_relation:
            with suppress(AttributeError):
                name, relation = _relation(meta, field)
                relations[name] = relation
    return {
        "table": meta.db_table,
        "keys": [meta.pk.column] if meta.pk is not None and meta.pk.column else [],
        "attributes": {field.column: field.attname for field in meta.concrete_fields},
        "relations": relations,
        "module": meta.model.__module__,
    }


def _relation(meta, field):
    """(name, [model, whether to many, local columns, remote columns, link table, its name in
    queries where that is another one]).
    """
    if field.related_model is None:  # the type column of each row says which model it leads to
        return field.name, ["", False, _columns(meta, field.fk_field, field.ct_field), [], ""]
    accessor = field.auto_created and not field.concrete
    name = field.get_accessor_name() if accessor else field.name
    many = bool(field.one_to_many or field.many_to_many)
    local, remote, link = [], [], ""
    if field.many_to_many:
        through = getattr(field, "through", None) or field.remote_field.through
        link = through._meta.db_table
    elif hasattr(field, "object_id_field_name"):  # generic: a type column goes with its key
        local = [meta.pk.column]
        keys = field.object_id_field_name, field.content_type_field_name
        remote = _columns(field.related_model._meta, *keys)
    elif field.concrete:
        local = [field.column]
        remote = [target.column for target in field.foreign_related_fields]
    else:
        local = [target.column for target in field.field.foreign_related_fields]
        remote = [field.field.column]
    queried = "" if field.name == name else field.name
    return name, [_model(field.related_model), many, local, remote, link, queried]


def _columns(meta, *fields):
    return [meta.get_field(name).column for name in fields]


def _marked(queryset, describe, owner, kind, instance=None):
    try:
        load = describe(owner, kind, instance)
        setattr(_query_of(queryset), _MARK, load)
    except Exception as error:
        recorder.warn_once("can't tell the ORM's relations: %s: %s" % (type(error).__name__, error))


def _query_of(queryset):
    """Not `queryset.query`: reading that applies a filter which Django means to apply later."""
    return vars(queryset).get("_query") or queryset.query


def _started(queryset):
    """Note what a relation's manager asks for, before the application adds to it."""
    with suppress(AttributeError):  # another version's queryset: it counts as added to
        query = _query_of(queryset)
        # the filter by the object itself, which Django means to apply later
        setattr(query, _START, _asked(query, 1 if queryset._deferred_filter else 0))


def _asked(query, more=0):
    return (
        len(query.where.children) + more,
        query.order_by,
        query.is_sliced,
        query.distinct,
        query.default_cols,
        query.select_related is False,
        query.deferred_loading,
        len(query.annotations),
    )


def _lazy_queryset(cls, describe):
    """`get_queryset` of a descriptor: what it gives loads the relation for one object."""
    plain = cls.get_queryset

    @wraps(plain)
    def get_queryset(self, **hints):
        queryset = plain(self, **hints)
        if recorder.active:
            _marked(queryset, describe, self, "lazy", hints.get("instance"))
        return queryset

    cls.get_queryset = get_queryset


def _eager_querysets(cls, describe):
    """The querysets by which a relation is prefetched."""
    # The second is the first's name before Django 5; if both are there it is on its way out, and
    # warns its caller.
    for name in ("get_prefetch_querysets", "get_prefetch_queryset"):
        plain = vars(cls).get(name)
        if plain is not None:
            setattr(cls, name, _eager(plain, describe))
            return


def _eager(plain, describe):
    """What it gives is asked later, or was asked inside: it is marked, and so is what is sent
    meanwhile.
    """

    @wraps(plain)
    def get_prefetch(self, instances, *args, **kwargs):
        if not recorder.active:
            return plain(self, instances, *args, **kwargs)
        first = instances[0] if instances else None
        querysets = _for(
            lambda: describe(self, "eager", first), plain, self, instances, *args, **kwargs
        )
        if hasattr(querysets[0], "_result_cache"):
            _marked(querysets[0], describe, self, "eager", first)
        return querysets

    return get_prefetch


def _for(load_of, call, *args, **kwargs):
    """Call; what is sent meanwhile on this thread is for the load that `load_of` gives."""
    me = get_ident()
    before = forced.get(me)
    try:
        forced[me] = load_of()
    except Exception as error:
        recorder.warn_once("can't tell the ORM's relations: %s: %s" % (type(error).__name__, error))
    try:
        return call(*args, **kwargs)
    finally:
        if before is None:
            forced.pop(me, None)
        else:
            forced[me] = before


def _accessor(rel):
    """The attribute by which the other side of a relation reaches it."""
    name = getattr(rel, "get_accessor_name", None)
    return (name() if name is not None else getattr(rel, "related_name", "")) or ""


def _owner(instance, cls):
    """The class of the object whose relation it is: a proxy, say, of the class that has the
    field.
    """
    return type(instance) if isinstance(instance, cls) else cls


def _forward(descriptor, kind, instance):
    field = descriptor.field
    return (
        "django",
        kind,
        _model(_owner(instance, field.model)),
        field.name,
        _model(field.remote_field.model),
        False,
    )


def _reverse_one(descriptor, kind, instance):
    related = descriptor.related
    return (
        "django",
        kind,
        _model(_owner(instance, related.model)),
        _accessor(related),
        _model(related.related_model),
        False,
    )


def _managers(module):
    """Managers of to-many relations are classes made on the spot: watch their making."""
    plain_reverse = module.create_reverse_many_to_one_manager
    plain_many = module.create_forward_many_to_many_manager

    def describe_reverse(rel):
        def describe(manager, kind, instance):
            model = _model(_owner(manager.instance if instance is None else instance, rel.model))
            return "django", kind, model, _accessor(rel), _model(rel.related_model), True

        return describe

    def describe_many(rel, reverse):
        def describe(manager, kind, instance):
            if reverse:
                model, name, target = rel.model, _accessor(rel), rel.related_model
            else:
                model, name, target = rel.related_model, rel.field.name, rel.model
            owner = _owner(manager.instance if instance is None else instance, model)
            return "django", kind, _model(owner), name, _model(target), True

        return describe

    @wraps(plain_reverse)
    def create_reverse(superclass, rel, *args, **kwargs):
        return _watched(plain_reverse(superclass, rel, *args, **kwargs), describe_reverse(rel))

    @wraps(plain_many)
    def create_many(superclass, rel, reverse, *args, **kwargs):
        return _watched(
            plain_many(superclass, rel, reverse, *args, **kwargs), describe_many(rel, reverse)
        )

    module.create_reverse_many_to_one_manager = create_reverse
    module.create_forward_many_to_many_manager = create_many


def _watched(cls, describe):
    plain = cls.get_queryset

    @wraps(plain)
    def get_queryset(self):
        queryset = plain(self)
        if not recorder.active:
            return queryset
        if queryset._result_cache is None:
            _marked(queryset, describe, self, "lazy")
            _started(queryset)
        else:  # what was prefetched is not asked again, but for what is made of it here
            setattr(_query_of(queryset), _FETCHED, True)
        return queryset

    cls.get_queryset = get_queryset
    counting = vars(cls).get("constrained_target")
    # count() and exists() of a to-many relation ask the link table alone
    if isinstance(counting, property):

        def constrained_target(self):
            queryset = counting.fget(self)
            if recorder.active and queryset is not None:
                _marked(queryset, describe, self, "lazy")
            return queryset

        cls.constrained_target = property(constrained_target)
    _eager_querysets(cls, describe)
    return cls


def install_relations(module):
    """Foreign keys, one-to-one and to-many relations."""
    _lazy_queryset(module.ForwardManyToOneDescriptor, _forward)
    _eager_querysets(module.ForwardManyToOneDescriptor, _forward)
    _lazy_queryset(module.ReverseOneToOneDescriptor, _reverse_one)
    _eager_querysets(module.ReverseOneToOneDescriptor, _reverse_one)
    _managers(module)


def _forcing(cls, describe):
    """`__get__` of a descriptor that reads from the database by itself."""
    plain = cls.__get__

    @wraps(plain)
    def get(self, instance, owner=None):
        if instance is None or not recorder.active:
            return plain(self, instance, owner)
        return _for(lambda: describe(self, instance), plain, self, instance, owner)

    cls.__get__ = get


def install_deferred(module):
    """Columns that were omitted of a query and are read after all."""

    def describe(attribute, instance):
        name = _model(type(instance))
        return "django", "refresh", name, attribute.field.name, name, False

    _forcing(module.DeferredAttribute, describe)


def install_generic(module):
    """Relations whose table follows a type column."""

    def describe(relation, instance):
        return "django", "lazy", _model(type(instance)), relation.name, "", False

    _forcing(module.GenericForeignKey, describe)
    plain = module.create_generic_related_manager

    @wraps(plain)
    def create_generic(superclass, rel, *args, **kwargs):
        def describe_many(manager, kind, instance):
            owner = type(manager.instance if instance is None else instance)
            return "django", kind, _model(owner), rel.field.name, _model(rel.model), True

        return _watched(plain(superclass, rel, *args, **kwargs), describe_many)

    module.create_generic_related_manager = create_generic


def install_compiler(module):
    """The one place where every query of the ORM is sent."""
    _sending(module.SQLCompiler, "query")
    _sending(module.SQLInsertCompiler, "write")
    _sending(module.SQLUpdateCompiler, "write")
    _sending(module.SQLDeleteCompiler, "write")


def install_connecting(module):
    """What a fresh connection is set up with comes ahead of the query that it was opened for."""
    plain = module.BaseDatabaseWrapper.connect

    @wraps(plain)
    def connect(self):
        mark = recorder.put_aside()
        try:
            return plain(self)
        finally:
            recorder.pending.set(mark)

    module.BaseDatabaseWrapper.connect = connect


def _sending(cls, kind):
    if "execute_sql" not in vars(cls):
        return
    plain = cls.execute_sql

    @wraps(plain)
    def execute_sql(self, *args, **kwargs):
        if not recorder.active:
            return plain(self, *args, **kwargs)
        me = get_ident()
        load = mark = None
        try:
            load = mark = _load_of(self, kind, me)
            if recorder.tracking and load is not None and load[1] != "write":
                uses[me] = object_use.ObjectUse()
                mark = (load, uses[me])
        except Exception as error:
            recorder.warn_once(
                "can't tell the ORM's relations: %s: %s" % (type(error).__name__, error)
            )
        if load is not None and strict.watching and load[1] == "lazy":
            strict.check(load)
        recorder.pending.set(mark)
        # An attribute's own lookup is built where it is sent; a manager's queryset may travel.
        if load is not None and (load[1] == "query" or (load[1] == "lazy" and load[5])):
            stack.built.set(_begun(self.query))
        try:
            return plain(self, *args, **kwargs)
        finally:
            recorder.pending.set(None)
            stack.built.set(None)

    cls.execute_sql = execute_sql


def _load_of(compiler, kind, me):
    query = compiler.query
    load = forced.get(me) or getattr(query, _MARK, None)
    if load is not None and kind == "query":
        start = getattr(query, _START, None)
        if start is not None and load[1] == "lazy":
            return (*load, (), (), start == _asked(query))
        return load
    if query.model is None:
        return None
    if kind == "query" and type(query).__name__ in ("UpdateQuery", "DeleteQuery"):
        kind = "write"
    name = _model(query.model)
    if kind == "query" and hasattr(query, _ASIDE) and stack.aside(sys._getframe(2)):
        return "django", "library", name, "", name, True
    if type(query.select_related) is dict:
        _mention_joined(query.model, query.select_related)
    return "django", kind, name, "", name, True


def _mention_joined(model, names):
    """The models of relations that are joined get described too."""
    for name, further in names.items():
        try:
            field = model._meta.get_field(name)
            joined = field.related_model
            recorder.mention("django", _model(joined))
        except Exception:
            # the accessor of a one-to-one relation's other side is not a field's name
            continue
        _mention_joined(joined, further)


def _begun(query):
    """The key of the line where a query was built; None if a manager that passed on the way reads
    the rows itself.
    """
    code = getattr(query, _GIVEN, None)
    if code is not None:
        frame = sys._getframe(2)
        for _ in range(_NEAR):
            if frame is None:
                break
            if frame.f_code is code:
                return None
            frame = frame.f_back
    return getattr(query, _BUILT, None)


def _codes_of(model):
    """The code of all methods of a model's managers and their querysets."""
    codes = _managing.get(model)
    if codes is None:
        codes = set()
        for manager in model._meta.managers:
            for cls in (
                *type(manager).__mro__,
                *getattr(manager, "_queryset_class", object).__mro__,
            ):
                for value in vars(cls).values():
                    codes.add(getattr(getattr(value, "__func__", value), "__code__", None))
        codes.discard(None)
        _managing[model] = codes
    return codes


def _beyond(frame, model):
    """(the frame that called the outermost of a model's managers nearby, the code of that one
    unless it is Django's).
    """
    if model is None:
        return frame, None
    codes, result, passed = _codes_of(model), frame, None
    for _ in range(_NEAR):
        if frame is None:
            break
        if frame.f_code in codes:
            result, passed = frame.f_back, frame.f_code
        frame = frame.f_back
    if passed is not None and "/django/db/" in passed.co_filename.replace("\\", "/"):
        passed = None
    return result, passed


def _caller(frame, model):
    """The frame that called a model's manager, which may be a library's: what the application asks
    of it is the application's query.
    """
    codes = _codes_of(model) if model is not None else ()
    while frame is not None and (
        frame.f_code in codes or "/django/db/" in frame.f_code.co_filename.replace("\\", "/")
    ):
        frame = frame.f_back
    return frame


def install_building(module):
    """Where a query is built; clones keep it, but for those of one whose rows are there."""
    plain, plain_clone = module.Query.__init__, module.Query.clone

    @wraps(plain)
    def init(self, *args, **kwargs):
        plain(self, *args, **kwargs)
        if recorder.active:
            _note_beginning(self, sys._getframe(1))

    @wraps(plain_clone)
    def clone(self):
        result = plain_clone(self)
        if _FETCHED in vars(result):
            for name in (_FETCHED, _BUILT, _GIVEN, _ASIDE):
                vars(result).pop(name, None)
            _note_beginning(result, sys._getframe(1))
        return result

    module.Query.__init__, module.Query.clone = init, clone


def _note_beginning(query, frame):
    try:
        beyond, code = _beyond(frame, query.model)
        setattr(query, _BUILT, stack.nearest(beyond))
        if code is not None:
            setattr(query, _GIVEN, code)
        if stack.aside(frame) and stack.aside(_caller(frame, query.model)):
            setattr(query, _ASIDE, True)
    except Exception as error:
        recorder.warn_once(
            "can't tell where a query is built: %s: %s" % (type(error).__name__, error)
        )
