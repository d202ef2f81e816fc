"""What native/trace.c is told of the code under study."""

import struct
from collections.abc import Callable

from hot_anvil.core.arch import state_of
from hot_anvil.core.arch.state import MOST_TOUCHES, Touch
from hot_anvil.core.trace.code_map import CodeMap

_HEAD = struct.Struct("<QIII")
_RANGE = struct.Struct("<QQ")
_FUNCTION = struct.Struct("<Q")
_PLACE = struct.Struct("<QBB6x")
_TOUCH = struct.Struct("<BBBBBB2xq")


def native_plan(code: CodeMap, entry: int, address_of: Callable[[str], int | None]) -> bytes:
    """Return the file for a program of this machine; ``entry`` is an address in its file."""
    state = state_of(code.isa)
    nothing = Touch(False, 0, 0)
    ranges = code.ranges()
    parts = [_HEAD.pack(entry, len(ranges), len(code.starts), len(code.places))]
    parts += (_RANGE.pack(*one) for one in ranges)
    parts += (_FUNCTION.pack(address) for address in code.starts)
    for address, place in sorted(code.places.items()):
        found = state.touches(place.instruction, address_of) if state.touches else []
        wide = bool(state.names_wide.search(place.instruction.text))
        parts.append(_PLACE.pack(address, wide, len(found)))
        for number in range(MOST_TOUCHES):
            parts.append(_TOUCH.pack(*(found[number] if number < len(found) else nothing)))
    return b"".join(parts)
