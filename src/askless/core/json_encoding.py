"""Values as JSON, whatever texts are in them: half of a surrogate pair, which JSON has no bytes
for, becomes U+FFFD.
"""

from __future__ import annotations

from typing import Any

import msgspec

_encode = msgspec.json.Encoder().encode


def encoded(value: Any) -> bytes:
    """A value of any type that msgspec knows."""
    try:
        return _encode(value)
    except UnicodeEncodeError:
        return _encode(_whole(value))


def _whole(value: Any) -> Any:
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode()
    if isinstance(value, msgspec.Struct):
        plain = {name: _whole(getattr(value, name)) for name in value.__struct_fields__}
        return type(value)(**plain)
    if isinstance(value, dict):
        return {_whole(key): _whole(one) for key, one in value.items()}
    return type(value)(map(_whole, value)) if type(value) in (list, tuple) else value
