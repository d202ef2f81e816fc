"""Types as far as calling a function and comparing what it made need them."""

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_WIDTHS = {"int": (1, 2, 4, 8, 16), "uint": (1, 2, 4, 8, 16), "float": (2, 4, 8, 16),
           "bool": (1,), "complex": (8, 16)}  # fmt: skip
MOST_BYTES_PASSED = 4096  # of a struct by value; what the worker has room for


class Member(NamedTuple):
    """A part of a struct."""

    name: str
    offset: int  # bytes
    type: "Type"


class Type(NamedTuple):
    """A type as far as calling needs it."""

    kind: str  # one of _WIDTHS, "struct", "array", "pointer", "void" or "other"
    size: int  # bytes
    name: str  # as the source writes it
    const: bool = False
    to: "Type | None" = None  # what a pointer points to, or an array holds
    members: tuple[Member, ...] = ()
    align: int = 1  # bytes
    restrict: bool = False  # for a pointer

    @property
    def scalar(self) -> bool:
        """Tell whether it is one number that values can be made of."""
        return self.size in _WIDTHS.get(self.kind, ())

    @property
    def plain(self) -> bool:
        """Tell whether it holds numbers only: a scalar, or structs and arrays of them."""
        if self.kind == "struct":
            return bool(self.members) and all(member.type.plain for member in self.members)
        if self.kind == "array":
            return self.size > 0 and self.to is not None and self.to.plain
        return self.scalar

    @property
    def callable_with(self) -> bool:
        """Tell whether values of this type can be passed and returned."""
        if self.kind == "pointer":
            return self.to is not None and (self.to.kind == "void" or self.to.plain)
        return self.plain and self.kind != "array" and self.size <= MOST_BYTES_PASSED

    @property
    def lies_naturally(self) -> bool:
        """Tell whether C lays the members of a struct out where they are by itself."""
        at, widest = 0, self.align
        for member in self.members:
            align = member.type.align
            at = -(-at // align) * align
            if at != member.offset:
                return False
            at += member.type.size
            widest = max(widest, align)
        return -(-at // widest) * widest == self.size


_ON_EVERY_MACHINE = 8  # bytes up to which a float is the same everywhere


def same_bytes(one: Type, other: Type) -> bool:
    """Tell whether the same bytes are the same value of two types, on whatever machine each is.

    A pointer passed is the machine's own: only what it points to counts.
    """
    if {one.kind, other.kind} <= {"int", "uint"}:
        return one.size == other.size
    if one.kind != other.kind:
        return False
    if one.kind in ("pointer", "array"):
        inner = one.to is not None and other.to is not None and same_bytes(one.to, other.to)
        return (one.to == other.to or inner) and (one.kind == "pointer" or one.size == other.size)
    if one.kind in ("float", "complex"):
        parts = 2 if one.kind == "complex" else 1
        return one.size == other.size <= parts * _ON_EVERY_MACHINE
    if one.size != other.size or len(one.members) != len(other.members):
        return False
    pairs = zip(one.members, other.members, strict=True)
    return all(a.offset == b.offset and same_bytes(a.type, b.type) for a, b in pairs)


def both_whole(one: Type, other: Type) -> bool:
    """Tell whether both are whole numbers of C, which it converts into each other."""
    return {one.kind, other.kind} <= {"int", "uint"} and max(one.size, other.size) <= 8


def holds_value(kind: Type, data: bytes, given_as: Type) -> bool:
    """Tell whether a whole number, given as the bytes of one type, is a value of another too."""
    if kind.size >= given_as.size and kind.kind == given_as.kind:
        return True
    value = int.from_bytes(data, "little", signed=given_as.kind == "int")
    bits = 8 * kind.size
    low, end = (-(1 << (bits - 1)), 1 << (bits - 1)) if kind.kind == "int" else (0, 1 << bits)
    return low <= value < end


VOID = Type("void", 0, "void")


class Leaf(NamedTuple):
    """A number, or a row of equal ones, inside a value of a type."""

    path: str  # "" for the value itself, "gauge.height" for a part
    offset: int  # bytes
    kind: str  # "int", "uint", "float" or "bool"
    size: int  # bytes of one number
    row: int  # numbers side by side
    type: Type  # that the source gives it

    @property
    def dtype(self) -> "np.dtype[Any]":
        """NumPy's type of one number."""
        import numpy as np

        letter = {"int": "i", "uint": "u", "float": "f"}.get(self.kind, "?")
        return np.dtype("?" if letter == "?" else f"{letter}{self.size}")


def leaves(kind: Type, path: str = "", offset: int = 0) -> Iterator[Leaf]:
    """Give the numbers that a value of a type is made of; bytes for ``void``.

    Padding is no leaf: what it holds is nobody's business.
    """
    if kind.kind == "struct":
        for member in kind.members:
            inner = f"{path}.{member.name}" if path else member.name
            yield from leaves(member.type, inner, offset + member.offset)
    elif kind.kind == "array" and kind.to:
        count = kind.size // max(kind.to.size, 1)
        own = list(leaves(kind.to))
        if len(own) == 1 and own[0].size == kind.to.size:  # numbers without gaps
            yield own[0]._replace(path=path, offset=offset, row=count)
        else:
            for index in range(count):
                yield from leaves(kind.to, f"{path}[{index}]", offset + index * kind.to.size)
    elif kind.kind == "complex":
        half = kind.size // 2
        for part, at in (("real", 0), ("imag", half)):
            inner = f"{path}.{part}" if path else part
            yield Leaf(inner, offset + at, "float", half, 1, kind)
    elif kind.kind in ("int", "uint") and kind.size == 16:  # NumPy has none so wide
        for part, at, sign in (("low half", 0, "uint"), ("high half", 8, kind.kind)):
            inner = f"{path}.{part}" if path else part
            yield Leaf(inner, offset + at, sign, 8, 1, kind)
    elif kind.kind == "void":
        yield Leaf(path, offset, "uint", 1, 1, kind)
    else:
        yield Leaf(path, offset, kind.kind, kind.size, 1, kind)


def element_size(kind: Type) -> int:
    """Return the bytes from one element of a buffer to the next."""
    return max(kind.size, 1)


def leaf_values(data: bytes | bytearray, kind: Type, leaf: Leaf) -> "NDArray[Any]":
    """Return one leaf of all elements in a buffer of ``kind``: shape (elements, leaf.row).

    It is a view: of a bytearray it can be written to.
    """
    import numpy as np

    step = element_size(kind)
    shape = len(data) // step, leaf.row
    if not data:
        return np.empty(shape, leaf.dtype)
    return np.ndarray(shape, leaf.dtype, data, leaf.offset, (step, leaf.size))


def declared(kind: Type) -> str:
    """Return a type as it stands before a name in a declaration."""
    if kind.kind == "pointer" and kind.to:
        return f"{'const ' if kind.to.const else ''}{kind.to.name} *"
    return f"{kind.name} "
