"""Variables that live as long as the program: what a call may leave its results in."""

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from hot_anvil.core.binary.call_types import type_of
from hot_anvil.core.binary.dwarf import open_dwarf
from hot_anvil.core.binary.types import Type
from hot_anvil.core.binary.variable_types import lookup, text_of

_AT_ADDRESS = 0x03  # DW_OP_addr
_MOST_BYTES = 1 << 20  # of all together that are compared


class Variable(NamedTuple):
    """A variable of the source with a place of its own in memory."""

    name: str  # as in the source
    symbol: str  # as in the object; of one inside a function without the number behind it
    type: Type
    inside: bool = False  # a function


class Placed(NamedTuple):
    """Where a program has a variable."""

    variable: Variable
    offset: int  # bytes from where the program is loaded


def read_variables(data: bytes) -> tuple[Variable, ...]:
    """Return the variables of an object with full debug info that hold numbers and may change."""
    _, dwarf = open_dwarf(data)
    if dwarf is None:
        return ()
    out: dict[tuple[str, bool], Variable] = {}
    for unit in dwarf.iter_CUs():
        for die, inside in _lasting(unit.get_top_DIE(), False):
            kind = type_of(die)
            const = kind.const or (kind.to is not None and kind.to.const)
            name = text_of(lookup(die, "DW_AT_name"))
            if name and kind.plain and not const:
                symbol = text_of(lookup(die, "DW_AT_linkage_name")) or name
                out[symbol, inside] = Variable(name, symbol, kind, inside)
    return tuple(out.values())


def _lasting(scope: Any, inside: bool) -> Iterator[tuple[Any, bool]]:
    for die in scope.iter_children():
        if die.tag == "DW_TAG_variable":
            place = die.attributes.get("DW_AT_location")
            if (
                place is not None
                and isinstance(place.value, list)
                and place.value[:1] == [_AT_ADDRESS]
            ):
                yield die, inside
        elif die.tag in ("DW_TAG_namespace", "DW_TAG_module"):
            yield from _lasting(die, inside)
        elif die.tag in ("DW_TAG_subprogram", "DW_TAG_lexical_block"):
            yield from _lasting(die, True)


def place_variables(image: bytes, variables: Sequence[Variable]) -> tuple[Placed, ...]:
    """Return where a linked image has these variables; those it has not, or twice, left out."""
    from hot_anvil.core.binary.elf import data_symbols

    symbols = data_symbols(image)
    plain = {name: places for name, places in symbols.items() if len(places) == 1}
    numbered: dict[str, list[tuple[int, int]]] = {}
    for name, places in symbols.items():
        head, dot, number = name.rpartition(".")
        if dot and number.isdecimal():
            numbered.setdefault(head, []).extend(places)
    out, total = [], 0
    for variable in variables:
        found = (numbered if variable.inside else plain).get(variable.symbol, [])
        if len(found) != 1 or found[0][1] != variable.type.size:
            continue
        total += variable.type.size
        if total <= _MOST_BYTES:
            out.append(Placed(variable, found[0][0]))
    return tuple(out)


def initial_bytes(image: bytes, placed: Sequence[Placed]) -> list[bytes]:
    """Return what a linked image has variables hold before it runs; b"" where it does not say."""
    from hot_anvil.core.binary.elf import data_contents

    contents = data_contents(image)
    out = []
    for one in placed:
        size = one.variable.type.size
        found = next(
            (data[one.offset - low : one.offset - low + size] for low, data in contents
             if low <= one.offset < low + len(data)), b"",
        )  # fmt: skip
        out.append(found if len(found) == size else b"")
    return out
