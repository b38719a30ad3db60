"""Values as the capture holds them: as JSON where it has a word for them, cut where they are long,
never by running code of the program's own.
"""

from json import encoder as parts
from json.encoder import encode_basestring_ascii as _escaped

VALUE_MAX = 2000  # characters of one parameter that are kept
LIST_MAX = 500  # values in a list that is kept whole
CONTAINERS = (list, tuple, dict, set, frozenset)
KEY_MAX = 64  # a sampled value longer than this is not a key


def encoder(default):
    """The C encoder of `json` itself, without the layers above it."""
    if parts.c_make_encoder is None:
        json_encoder = parts.JSONEncoder(separators=(",", ":"), default=default, allow_nan=False)
        return json_encoder.encode
    make = parts.c_make_encoder
    escape = parts.encode_basestring_ascii
    compiled = make(None, default, escape, None, ":", ",", False, False, False)

    def encode(value):
        return "".join(compiled(value, 0))

    return encode


def plain(value):
    """A value that JSON has no word for, as [type, text]."""
    if isinstance(value, (bytes, bytearray, memoryview)):
        raw = bytes(value)
        return (
            ["bytes", raw[: VALUE_MAX // 2].hex()]
            if len(raw) <= VALUE_MAX // 2
            else ["cut bytes", str(len(raw))]
        )
    if type(value) in (list, tuple) and len(value) <= LIST_MAX:
        text = _listed(value)
        if text is not None:
            return [type(value).__name__, text]
    return [type(value).__name__, text_of(value)[:VALUE_MAX]]


def _listed(values):
    """A list of plain values, as drivers take for ANY and IN, as JSON; None for any other, or a
    long one.
    """
    if not all(item is None or type(item) in (int, str, bool) for item in values):
        return None
    text = "[" + ", ".join(map(_json_text, values)) + "]"
    return text if len(text) <= VALUE_MAX else None


def _json_text(value):
    if type(value) is str:
        return _escaped(value)
    return "null" if value is None else str(value).lower() if type(value) is bool else repr(value)


_KNOWN_MODULES = ("datetime", "decimal", "uuid", "fractions", "ipaddress")


def text_of(value):
    """A value as text, without running code of the program's own."""
    if isinstance(value, str):
        return str.__str__(value)
    if isinstance(value, int):
        return int.__repr__(value)
    if isinstance(value, float):
        return float.__repr__(value)
    return str(value) if type(value).__module__ in _KNOWN_MODULES else "<%s>" % type(value).__name__


def safe(value):
    """A parameter or sampled value in a form that JSON can hold, long texts cut."""
    if value is None or value is True or value is False:
        return value
    kind = type(value)
    if kind is int:
        return value
    if kind is float:
        return value if value - value == 0 else ["float", str(value)]
    if kind is str:
        if len(value) > VALUE_MAX:
            return ["cut str", value[:VALUE_MAX].encode("utf-8", "replace").decode()]
        return value.encode("utf-8", "replace").decode()
    return plain(value)


def column(values):
    """A column of integers as JSON: a single number where all are the same."""
    first = values[0]
    if values.count(first) == len(values):
        return repr(first)
    return repr(values if type(values) is list else list(values))


def nothing(row):
    return None


def safe_nested(value):
    if type(value) in (tuple, list):
        return [safe_nested(item) if type(item) is tuple else safe(item) for item in value]
    return safe(value)


def as_tuple(row):
    """The values of a row, whatever a row factory made of it; an object of the program's own is not
    looked into.
    """
    if isinstance(row, tuple):
        return tuple.__getitem__(row, slice(None))
    if isinstance(row, dict):
        return tuple(dict.values(row))
    if isinstance(row, list):
        return tuple(list.__getitem__(row, slice(None)))
    return tuple(row) if type(row).__module__ == "sqlite3" else (None,)


def marshallable(value):
    return (
        value if value is None or type(value) in (int, float, str, bytes, bool) else text_of(value)
    )


def may_be_key(value):
    if type(value) is str:
        return len(value) <= KEY_MAX
    return value is None or type(value) is int


def is_called_key(name):
    """Whether a column's name says that it holds a key: id, vessel_id, uuid, id_1 (as SQLAlchemy
    distinguishes two).
    """
    return name.lower().rstrip("_0123456789").endswith(("id", "pk", "key"))


def width(value):
    kind = type(value)
    if kind is str or kind is bytes:
        return len(value) + 4
    if value is None:
        return 0
    return 8 if kind is float or kind is int and not -(2**31) <= value < 2**31 else 4


def plain_model(described):
    """A model's description with all that is not a text omitted: what an ORM's fields give is
    anything.
    """

    def texts(values):
        return [str.__str__(value) for value in values if isinstance(value, str)]

    relations = {}
    for name, relation in described["relations"].items():
        target, many, local, remote, *others = relation  # the link table, the name in queries
        if isinstance(name, str) and isinstance(target, str):
            columns = [texts(local), texts(remote)]
            others = [one if isinstance(one, str) else "" for one in others]
            relations[str.__str__(name)] = [str.__str__(target), bool(many), *columns, *others]
    table = described["table"]
    attributes = described["attributes"].items()
    return {
        "table": table if isinstance(table, str) else "",
        "keys": texts(described["keys"]),
        "attributes": {
            str(key): str(value) for key, value in attributes if texts((key, value)) == [key, value]
        },
        "relations": relations,
        "needed": texts(described.get("needed", ())),
        "module": "".join(texts([described.get("module", "")])),
        "base": "".join(texts([described.get("base", "")])),
    }
