"""The one codec between records and stored data, driven by the records' own fields.

A record is stored as the list of its fields, which JSON makes of a named tuple by itself; ``read``
makes the record of a type again from what JSON gives. The converters are worked out once for each
type. (A compiled codec of a library took more to import than reading most files takes.)
"""

import types
from collections.abc import Callable, Mapping
from functools import cache
from typing import Any, Literal, TypeVar, Union, get_args, get_origin, get_type_hints

Made = TypeVar("Made")
_Convert = Callable[[Any], Any] | None  # None: plain data is the value


def read(kind: type[Made], plain: Any) -> Made:
    """Return the value of type ``kind`` that was stored as ``plain``.

    ``kind`` is built of named tuples, tuples, sets, mappings, unions with at most one such
    alternative, literals and plain values. Raises TypeError for other types.
    """
    wanted: Any = kind
    convert = _converter(wanted)
    return convert(plain) if convert else plain  # type: ignore[no-any-return]


def as_plain(value: Any) -> Any:
    """Return what JSON cannot write as something that it can; for ``json.dumps(default=…)``."""
    if isinstance(value, Mapping):
        return dict(value)
    if isinstance(value, set | frozenset):
        return sorted(value)
    raise TypeError(f"{type(value).__name__} cannot be stored")


@cache
def _converter(kind: Any) -> _Convert:
    if hasattr(kind, "_fields"):
        return _record(kind)
    origin, inside = get_origin(kind), get_args(kind)
    if origin is Literal or kind in (str, int, float, bool, type(None), Any, object):
        return None
    if origin in (Union, types.UnionType):
        return _union(inside)
    if origin is tuple:
        return _tuple(inside)
    if origin in (set, frozenset, list):
        return _collection(origin, _converter(inside[0]))
    if origin in (dict, Mapping) or (isinstance(origin, type) and issubclass(origin, Mapping)):
        return _mapping(_converter(inside[1]))
    raise TypeError(f"{kind} cannot be read from stored data")


def _record(kind: Any) -> _Convert:
    hints = get_type_hints(kind)
    own = [hints[name] for name in kind._fields]
    converters: list[_Convert] = []

    def make(row: Any) -> Any:
        if not converters:  # worked out on first use: a record may hold its own kind
            converters.extend(_converter(hint) for hint in own)
        return kind(*[c(v) if c else v for c, v in zip(converters, row, strict=True)])

    return make


def _union(inside: tuple[Any, ...]) -> _Convert:
    structured = [c for one in inside if (c := _converter(one))]
    if len(structured) > 1:
        raise TypeError(f"{inside}: stored data does not tell which of these it is")
    if not structured:
        return None
    convert = structured[0]
    return lambda v: convert(v) if isinstance(v, list | dict) else v


def _tuple(inside: tuple[Any, ...]) -> _Convert:
    if inside[-1:] == (...,):
        convert = _converter(inside[0])
        return (lambda v: tuple(map(convert, v))) if convert else tuple
    own = [_converter(one) for one in inside]
    if not any(own):
        return tuple
    return lambda v: tuple([c(x) if c else x for c, x in zip(own, v, strict=True)])


def _collection(origin: Any, convert: _Convert) -> _Convert:
    return (lambda v: origin(map(convert, v))) if convert else origin


def _mapping(convert: _Convert) -> _Convert:
    return (lambda v: {key: convert(x) for key, x in v.items()}) if convert else None
