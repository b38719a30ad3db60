"""What of Django's objects is read (`--track-use`): `from_db` marks each object, and reading a
field of it is noted unless Django reads it to load other objects.
"""

import sys
from _thread import get_ident
from functools import wraps

from .. import object_use, recorder
from .django_orm import forced, uses

_MARKED = "_askless_mark"  # on an object's state


def _column_of(cls, name):
    for field in cls._meta.concrete_fields:
        if name in (field.attname, field.name):
            if name == field.name and field.is_relation and name != field.attname:
                return ""
            return "%s.%s" % (field.model._meta.db_table, field.column)
    for field in cls._meta.get_fields():
        if getattr(field, "get_accessor_name", lambda: field.name)() == name:
            return ""
    # an object's own may be a relation that was loaded under another name
    return None if hasattr(cls, name) else ""


def install_tracking(module):
    """Mark objects as they come from the database, and note what is read of them (with
    `--track-use` only).
    """
    if not recorder.tracking:
        return
    model = module.Model
    plain = model.from_db.__func__

    @wraps(plain)
    def from_db(cls, *args, **kwargs):
        instance = plain(cls, *args, **kwargs)
        following = uses.get(get_ident())
        if following is not None:
            try:
                entity = following.entity(cls, _column_of)
                entity.objects += 1
                instance._state._askless_mark = [entity, 0]
            except Exception as error:
                recorder.warn_once(
                    "can't track what is read: %s: %s" % (type(error).__name__, error)
                )
        return instance

    model.from_db = classmethod(from_db)
    _leave_no_trace(module.ModelState)
    _watch_reading(model)


def _leave_no_trace(state_class):
    """A copy or a pickle of an object takes no mark along."""
    plain = vars(state_class).get("__getstate__")

    def getstate(self):
        state = dict(vars(self)) if plain is None else plain(self)
        if isinstance(state, dict):
            state.pop(_MARKED, None)
        return state

    state_class.__getstate__ = getstate


def _watch_reading(model):
    plain = model.__getattribute__ if "__getattribute__" in vars(model) else object.__getattribute__
    read, frame = object_use.read, sys._getframe

    def getattribute(self, name):
        value = plain(self, name)
        if name[:1] != "_" or name == "__dict__":
            try:
                mark = plain(self, "__dict__")["_state"]._askless_mark
            except (KeyError, AttributeError):
                return value
            if mark is not None:
                if name == "__dict__":
                    if _takes_all(frame(1).f_code):
                        for attribute in _loaded_names(value):
                            read(mark, type(self), attribute)
                elif not _loads(frame(1)):
                    read(mark, type(self), name)
        return value

    _readers[getattribute.__code__] = _ACCESSOR
    model.__getattribute__ = getattribute


# Who reads an attribute. Django reads keys and relations of objects to load others, which is no use
# of them. Everything else that it reads for the application (hash(), ==, a lookup's value, save(),
# forms, serializers) is.
_APPLICATION, _LOADER, _ACCESSOR, _ORM = range(4)
_LOADERS = {
    "query.py": (
        "__iter__",  # rows of a relation's manager get its object
        "prefetch_related_objects",
        "prefetch_one",
        "prefetch_one_level",
        "get_prefetcher",
        "in_prefetched_cache",
        "is_fetched",
    ),
    "related_descriptors.py": (
        "__get__",
        "__init__",  # of a relation's manager
        "get_object",
        "get_queryset",
        "get_prefetch_queryset",
        "get_prefetch_querysets",
        "_apply_rel_filters",
    ),
    "query_utils.py": ("__get__", "_check_parent_chain"),  # of a deferred column
}
_ACCESSORS = (  # read for their caller
    "_get_pk_val",
    "_is_pk_set",
    "get_local_related_value",
    "get_foreign_related_value",
    "get_instance_value_for_fields",
    "get_reverse_related_filter",
    "get_forward_related_filter",
    "get_extra_descriptor_filter",
    "<lambda>",
    "<genexpr>",
    "<listcomp>",
    "<setcomp>",
    "<dictcomp>",
)
_readers = {}  # code -> who reads


def _reader(code):
    known = _readers.get(code)
    if known is None:
        folder, _, file = code.co_filename.replace("\\", "/").rpartition("/")
        if "/django/db" not in folder:
            known = _APPLICATION
        elif code.co_name in _ACCESSORS:
            known = _ACCESSOR
        else:
            known = _LOADER if code.co_name in _LOADERS.get(file, ()) else _ORM
        _readers[code] = known
    return known


def _loads(frame):
    """Whether an attribute is read for the sake of loading other objects."""
    who = _reader(frame.f_code)
    while who == _ACCESSOR:
        frame = frame.f_back
        if frame is None:
            return False
        who = _reader(frame.f_code)
    return who == _LOADER or (who == _ORM and get_ident() in forced)


def _takes_all(code):
    """Whether what reads an object's `__dict__` takes all of it: pickle, copy, vars(). A descriptor
    keeps its own value there.
    """
    if _reader(code) == _APPLICATION:
        return code.co_name not in ("__get__", "__set__", "__delete__")
    return code.co_name == "__getstate__"


def _loaded_names(state):
    """The names of the columns and relations that an object holds. `state` is its `__dict__`."""
    yield from [name for name in state if name[:1] != "_"]
    yield from list(getattr(state.get("_state"), "fields_cache", ()))
    yield from list(state.get("_prefetched_objects_cache", ()))


def install_iteration(module):
    """Rows of a result that are fetched in portions belong to its query, whatever was asked in
    between.
    """
    if not recorder.tracking:
        return
    plain = module.ModelIterable.__iter__

    @wraps(plain)
    def iterate(self):
        me = get_ident()
        objects = plain(self)
        mine = None
        while True:
            if mine is not None:
                uses[me] = mine
            try:
                instance = next(objects)
            except StopIteration:
                return
            mine = uses.get(me) if mine is None else mine
            yield instance

    module.ModelIterable.__iter__ = iterate
