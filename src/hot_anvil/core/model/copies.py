"""How many passes of one loop another does at once, by what they load, store and calculate."""

from collections import Counter
from collections.abc import Iterable, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.model.function import FunctionModel


def copies_of(
    left: FunctionModel, inside: Sequence[int], right: FunctionModel, own: Sequence[int]
) -> int:
    """Return how many passes of one loop another does in one, by what cannot be merged.

    Stores cannot. Without stores all that is counted must have grown alike, or
    the step from pass to pass as much as the loads.
    """
    first, second = _amounts(left, inside), _amounts(right, own)
    if any(y and not x for x, y in zip(first, second, strict=True)):
        return 1  # it does something else: no copies of the same
    ratios = [y / x for x, y in zip(first, second, strict=True) if x]
    whole = [round(r) for r in ratios if r >= 1.5 and abs(r - round(r)) < 0.26]
    if first[0]:
        copies = round(ratios[0])
        even = min(ratios) > 0.3 and max(ratios) <= 1.3 * copies
        return copies if copies in whole[:1] and even else 1
    if right.slots & set(own) and not left.slots & set(inside):
        return 1  # loads of values that only one side keeps in registers
    steps = step_of(left, inside), step_of(right, own)
    if steps[0] and steps[1] % steps[0] == 0 and ratios:
        copies = steps[1] // steps[0]
        if copies >= 2 and 0.75 * copies <= max(ratios) <= 1.5 * copies:
            return copies
    if not whole or min(ratios) < 1.2 or 2 * len(whole) < len(ratios):
        return 1
    return int(Counter(whole).most_common(1)[0][0])


def _amounts(side: FunctionModel, among: Sequence[int]) -> tuple[int, ...]:
    """Return how many stores, loads, float operations, multiplications and calls there are."""
    return (
        accesses(side, side.stores(among)),
        accesses(side, _distinct(side, among)),
        len(side.of(b.FLOAT, among)) + len(side.of((b.FMA,), among)),
        len(side.of((b.MUL,), among)),
        len(side.of((b.CALL,), among)),
    )


def accesses(side: FunctionModel, among: Iterable[int]) -> int:
    """Return how many values are loaded or stored; some instructions take two."""
    pairs = side.body.arch.semantics.pairs
    return sum(1 + bool(pairs.match(side.body.items[k].mnemonic)) for k in among)


def _distinct(side: FunctionModel, among: Iterable[int]) -> list[int]:
    """Return loads, without those of an address that was loaded from just before."""
    out: list[int] = []
    known: set[b.Memory] = set()
    for k in sorted(among):
        memory = side.effects[k].memory
        if memory and side.loads((k,)) and memory not in known:
            out.append(k)
            known.add(memory)
        written = side.written(k)
        known = {m for m in known if not {m.base, m.indexed} & written}
    return out


def step_of(side: FunctionModel, among: Sequence[int]) -> int:
    """Return the most that a register grows or shrinks by constants in a pass, 0 for none."""
    steps: Counter[str] = Counter()
    for k in side.of((b.ADD, b.SUB, b.ADDRESS), among):
        done = side.effects[k]
        by = done.memory.offset if done.kind == b.ADDRESS and done.memory else done.immediate
        written = side.written(k)
        if by and abs(by) <= 4096 and not done.packed and written and written <= side.read(k):
            steps[min(written)] += -by if done.kind == b.SUB else by
    return max((abs(by) for by in steps.values()), default=0)


def vectors_of(
    left: FunctionModel, inside: Sequence[int], right: FunctionModel, own: Sequence[int]
) -> int:
    """Return how many vectors of each array a loop handles in a pass."""
    stores = [k for k in right.stores(own) if right.effects[k].packed]
    if stores and left.stores(inside):
        return round(accesses(right, stores) / len(left.stores(inside)))
    groups: Counter[tuple[str, str, str]] = Counter()
    wide = any(right.effects[k].packed for k in right.loads(own))
    for k in _distinct(right, own):
        memory = right.effects[k].memory
        if memory and (right.effects[k].packed or not wide):
            groups[memory.base, memory.indexed, memory.symbol] += accesses(right, [k])
    return max(groups.values(), default=1)


def grown_in(side: FunctionModel, inside: Sequence[int]) -> frozenset[str]:
    """Return the registers that a loop changes by constant steps and in no other way."""
    steps: dict[str, bool] = {}
    carry = side.body.arch.semantics.carry
    for k in inside:
        done = side.effects[k]
        grows = done.kind in (b.ADD, b.SUB) and done.immediate is not None and not done.memory
        grows = grows and not carry.match(side.body.items[k].mnemonic)
        for family in side.written(k):
            steps[family] = steps.get(family, True) and grows and family in side.read(k)
    return frozenset(family for family, only in steps.items() if only)
