"""What becomes of a result (`--track-use`): which objects the application looked at, and which of
their columns.

An ORM hook gives every loaded object a mark, `[entity, seen]`: the `Entity` that counts for its
model in the query that loaded it, and a bit for each attribute that was read of this object.
Reading costs a dictionary lookup or two.
"""

USES_MOST = 20000  # results followed in one request

_bits = {}  # (model, attribute) -> bit, given when the attribute is first read


class Entity:
    """Objects of one model that one query loaded. `read` counts, by attribute, the objects that it
    was read of.
    """

    __slots__ = ("model", "objects", "touched", "read", "column_of")

    def __init__(self, model, column_of):
        self.model = model
        self.objects = 0
        self.touched = 0
        self.read = {}
        self.column_of = column_of


class ObjectUse:
    """One result. `ordinal` is its query's place in the request, once it has been written."""

    __slots__ = ("entities", "ordinal")

    def __init__(self):
        self.entities = {}
        self.ordinal = -1

    def entity(self, cls, column_of):
        """The entity for a model's class. `column_of` says which "table.column" an attribute stands
        for, "" for none.
        """
        entity = self.entities.get(cls)
        if entity is None:
            entity = self.entities[cls] = Entity(cls.__name__, column_of)
        return entity

    def rows(self):
        """What is written of it: one list an entity."""
        out = []
        for cls, entity in self.entities.items():
            columns, relations = {}, {}
            for name, count in list(entity.read.items()):
                column = entity.column_of(cls, name)
                if column:
                    columns[column] = max(count, columns.get(column, 0))
                elif column == "":
                    relations[name] = count
            out.append(
                [self.ordinal, entity.model, entity.objects, entity.touched, columns, relations]
            )
        return out


def read(mark, cls, name):
    """An attribute of a marked object has been read."""
    bit = _bits.get((cls, name))
    if bit is None:
        bit = _bits[cls, name] = 1 << sum(known[0] is cls for known in _bits)
    seen = mark[1]
    if not seen & bit:
        mark[1] = seen | bit
        entity = mark[0]
        if not seen:
            entity.touched += 1
        entity.read[name] = entity.read.get(name, 0) + 1
