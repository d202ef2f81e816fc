"""How many elements a piece of code handles at once."""

from collections import Counter
from collections.abc import Sequence
from typing import NamedTuple

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.model.function import FunctionModel


class Shape(NamedTuple):
    """How many elements a loop handles at once."""

    lanes: int
    bits: int
    element: str
    width: int

    @property
    def words(self) -> str:
        """The shape as a reader says it."""
        if self.lanes == b.SCALABLE:
            return "as many elements at once as the machine's vectors hold"
        name = {"f": "float", "i": "integer", "u": "integer"}.get(self.element, "element")
        at = f"in {self.width}-bit registers"
        if not self.bits:
            return f"a whole register at once, {at}"
        return f"{self.lanes} x {self.bits}-bit {name}s at once, {at}"


def shape_of(side: FunctionModel, among: Sequence[int]) -> Shape:
    """Return the commonest shape of the packed calculations, else the width of what is moved."""
    packed = side.packed(among)
    moved = [k for k in among if side.effects[k].packed and side.effects[k].memory]
    known = [k for k in packed if side.effects[k].bits and side.kinds[k] not in (b.LOGIC, b.SHIFT)]
    known = known or [k for k in packed if side.effects[k].bits]
    counted = Counter(
        Shape(d.lanes, d.bits, d.element, d.width) for d in (side.effects[k] for k in known)
    )
    if not counted:  # a copy's mnemonic says nothing of what is copied
        widths = [side.effects[k].width for k in packed or moved] or [0]
        return Shape(0, 0, "", max(widths))
    return max(counted, key=lambda s: (counted[s], s.width))


def is_vector_loop(side: FunctionModel, loop: int) -> bool:
    """Tell whether a loop itself is vectorised, and not just sums up what an inner one left."""
    if side.is_scalar:
        return False
    own = side.each_pass(loop)
    if not is_vector(side, own):
        return False
    blocks = side.loops[loop].blocks
    inner = [k for k, other in enumerate(side.loops) if other.blocks < blocks]
    touches = any(side.effects[k].packed and side.effects[k].memory for k in own)
    return touches or not any(is_vector(side, side.own(k)) for k in inner)


def is_vector(side: FunctionModel, among: Sequence[int]) -> bool:
    """Tell whether a loop works on packed data: calculates with it, or copies all it moves so."""
    packed = side.packed(among)
    if packed and not _signs_only(side, among, packed):
        return True
    loads = [k for k in side.loads(among) if side.effects[k].packed]
    stores = [k for k in side.stores(among) if side.effects[k].packed]
    return bool(stores) and (bool(loads) or not side.loads(among))


def _signs_only(side: FunctionModel, among: Sequence[int], packed: Sequence[int]) -> bool:
    """Tell whether packed logic only works on the signs of scalars: no other form of it exists."""
    if any(side.kinds[k] != b.LOGIC or side.effects[k].element != "f" for k in packed):
        return False
    done = [side.effects[k] for k in among]
    wide = any(one.packed and (one.loads or one.stores) for one in done)
    return not wide and any(one.lanes == 1 and one.element == "f" for one in done)
