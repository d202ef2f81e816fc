"""Any record as plain data that tells by itself what it is, and back.

For what is kept for long and sent to others: fields go by their names, so that a record which has
got a field since, with a default, can still be read. Reading makes nothing but records of the core,
whatever the data says. (``core.codec`` is for what the store can make again: smaller and faster.)
"""

import base64
import math
import re
from collections.abc import Callable, Mapping, Sequence
from importlib import import_module
from typing import Any

from hot_anvil.errors import AnvilError, FaultError, MissingError, RequestError, ToolError

_TUPLE, _LIST, _MAPPING, _BYTES, _SET, _ERROR, _NUMBER = (-1, -2, -3, -4, -5, -6, -7)
_ERRORS = {e.__name__: e for e in (AnvilError, FaultError, MissingError, RequestError, ToolError)}
_OURS = re.compile(r"hot_anvil\.core(\.\w+)+")


def pack(value: Any) -> dict[str, Any]:
    """Return ``value``, of records and plain data, as data that JSON can hold.

    Raises TypeError for what is neither.
    """
    shapes: dict[type, int] = {}
    packed = _pack(value, shapes)
    named = [[f"{kind.__module__}:{kind.__qualname__}", list(_fields(kind))] for kind in shapes]
    return {"records": named, "value": packed}


def unpack(plain: Any) -> Any:
    """Return what was packed.

    Raises ValueError where that was no such data, or of records that are others now.
    """
    try:
        makers = [_maker(name, fields) for name, fields in plain["records"]]
        return _unpack(plain["value"], makers)
    except (KeyError, TypeError, IndexError, AttributeError, ImportError, RecursionError) as error:
        raise ValueError(f"{type(error).__name__}: {error}") from None


def _fields(kind: Any) -> Sequence[str]:
    return kind._fields  # type: ignore[no-any-return]


def _pack(value: Any, shapes: dict[type, int]) -> Any:
    if value is None or isinstance(value, str | bool | int):
        return value
    if isinstance(value, float):
        return float(value) if math.isfinite(value) else [_NUMBER, str(float(value))]
    if isinstance(value, tuple) and hasattr(value, "_fields"):
        number = shapes.setdefault(type(value), len(shapes))
        return [number, *(_pack(one, shapes) for one in value)]
    if isinstance(value, tuple | list):
        return [_TUPLE if isinstance(value, tuple) else _LIST, *(_pack(v, shapes) for v in value)]
    if isinstance(value, Mapping):
        pairs = ([_pack(key, shapes), _pack(one, shapes)] for key, one in value.items())
        return [_MAPPING, *pairs]
    if isinstance(value, bytes):
        return [_BYTES, base64.b64encode(value).decode()]
    if isinstance(value, set | frozenset):
        return [_SET, *sorted((_pack(one, shapes) for one in value), key=repr)]
    if isinstance(value, AnvilError):
        kind = type(value) if type(value).__name__ in _ERRORS else AnvilError
        return [_ERROR, kind.__name__, str(value), value.about]
    raise TypeError(f"{type(value).__name__} cannot be kept")


def _unpack(plain: Any, makers: Sequence[Callable[[Sequence[Any]], Any]]) -> Any:
    if not isinstance(plain, list):
        return plain
    tag, *rest = plain
    if tag >= 0:
        return makers[tag]([_unpack(one, makers) for one in rest])
    if tag in (_TUPLE, _LIST):
        made = [_unpack(one, makers) for one in rest]
        return tuple(made) if tag == _TUPLE else made
    if tag == _MAPPING:
        return {_unpack(key, makers): _unpack(one, makers) for key, one in rest}
    if tag == _SET:
        return frozenset(_unpack(one, makers) for one in rest)
    if tag == _BYTES:
        return base64.b64decode(rest[0])
    if tag == _NUMBER:
        return float(rest[0])
    kind, text, about = rest
    return _ERRORS[kind](text, about)


def _maker(name: str, fields: Sequence[str]) -> Callable[[Sequence[Any]], Any]:
    """Return what makes a record of its fields' values, by the names that they had."""
    module, _, inner = name.partition(":")
    kind: Any = getattr(import_module(module), inner, None) if _OURS.fullmatch(module) else None
    if not (isinstance(kind, type) and issubclass(kind, tuple) and hasattr(kind, "_fields")):
        raise ValueError(f"there is no record {name}")
    gone = [field for field in fields if field not in _fields(kind)]
    lacking = set(_fields(kind)) - set(fields) - set(getattr(kind, "_field_defaults", ()))
    if gone or lacking:
        raise ValueError(f"{inner} has other fields now: {', '.join([*gone, *sorted(lacking)])}")
    return lambda values: kind(**dict(zip(fields, values, strict=True)))
