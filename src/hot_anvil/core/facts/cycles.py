"""Cycles of a loop's pass, where the instruction set fixes those of each instruction."""

from collections.abc import Sequence

from hot_anvil.core.arch import costs_of
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.costs import Cost, Costs
from hot_anvil.core.facts.records import Fact
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.model.passes import range_of_pass


def cycles_of_pass(side: FunctionModel, number: int, places: Sequence[int]) -> list[Fact]:
    """Return the fact "cycles" of a loop, none where instructions have no fixed cycles."""
    costs = costs_of(side.body.isa)
    if not costs:
        return []
    loop = side.loops[number]
    own = [k for block in loop.blocks for k in _places(side, block)]
    known = {k: costs.of_instruction(side.body.items[k]) for k in own}
    if not all(known.values()):
        return [Fact("cycles", None, (), "", "cycles of one of its instructions are not known")]
    if any(side.effects[k].kind == b.CALL for k in own):
        return [Fact("cycles", None, (), "", "it calls: what that takes is not its own")]

    def weigh(block: int, goal: int) -> tuple[int, int]:
        *plain, last = _places(side, block)
        rows = [cost for k in plain if (cost := known[k])]
        rest = _last(side, last, goal == block + 1, costs)
        least, most = (sum(getattr(c, end) for c in (*rows, rest)) for end in ("least", "most"))
        return least, most

    found = range_of_pass(side.body, number, weigh)
    if not found:
        return [Fact("cycles", None, (), "", "its ways cannot be told")]
    least, most = found
    value = least if least == most else f"{least} to {most}"
    return [Fact("cycles", value, tuple(places), "", costs.of)]


def _places(side: FunctionModel, block: int) -> range:
    return range(side.body.bounds[block], side.body.bounds[block + 1])


def _last(side: FunctionModel, k: int, onward: bool, costs: Costs) -> Cost:
    """Return the cycles of a block's last instruction, given whether the next block follows."""
    cost = costs.of_instruction(side.body.items[k])
    assert cost
    kind = side.effects[k].kind
    if kind not in (b.BRANCH, b.SKIP):
        return cost
    if onward:
        return Cost(cost.least, cost.least)
    if kind == b.SKIP and k + 1 < len(side):
        skipping = costs.skipping(side.body.items[k + 1].mnemonic)
        return Cost(skipping, skipping)
    return Cost(cost.most, cost.most)
