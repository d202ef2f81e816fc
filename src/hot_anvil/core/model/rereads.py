"""Loads of memory that was touched before: by addresses, on every way that leads there.

A forward pass over what is available (Aho, Lam, Sethi, Ullman 2006, section 9.2.6). An address is
told by the values that its registers hold, so that a copy of a pointer is the same pointer. Code in
loops is left out: what it touches hangs on the pass.
"""

from collections.abc import Hashable, Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.model.control_flow import Body
from hot_anvil.core.model.cycles import postorder
from hot_anvil.core.model.function import FunctionModel

Value = Hashable
Address = tuple[Value, Value, str, int]  # base, index, symbol, offset


class _State(NamedTuple):
    """What is known at one point of a function."""

    origin: Value  # what registers without a value of their own have held since
    values: Mapping[str, Value]  # register family -> what it holds
    known: Mapping[Address, bool]  # touched on every way -> may have been written over since

    def value(self, family: str) -> Value:
        return self.values.get(family, (self.origin, family)) if family else ""


@lru_cache(maxsize=4)
def read_again(side: FunctionModel) -> tuple[int, ...]:
    """Return loads outside of loops of what was touched before, with a store or call between.

    A load of two values stands there twice if both are.
    """
    body = side.body
    if len(side.loads(range(len(side)))) < 2 and not side.stores(range(len(side))):
        return ()
    before: list[list[int]] = [[] for _ in body.next_blocks]
    for block, goals in enumerate(body.next_blocks):
        for goal in goals:
            before[goal].append(block)
    states: dict[int, _State] = {}
    out: list[int] = []
    for block in _order(body.next_blocks):
        if body.loop_of[body.bounds[block]] >= 0:
            states[block] = _State(("loop", block), {}, {})
            continue
        state = _merged(block, [states.get(p) for p in before[block]])
        states[block] = _through(side, block, state, out)
    return tuple(sorted(out))


def most_on_one_way(side: FunctionModel, loads: Sequence[int]) -> int:
    """Return how many of these loads one way through a function passes, at most."""
    if not loads:
        return 0
    body = side.body
    own = [0] * len(body.next_blocks)
    for k in loads:
        own[body.block_of[k]] += 1
    order = _order(body.next_blocks)
    rank = {block: n for n, block in enumerate(order)}
    most = dict.fromkeys(order, 0)
    for block in reversed(order):
        onward = (most[goal] for goal in body.next_blocks[block] if rank[goal] > rank[block])
        most[block] = own[block] + max(onward, default=0)
    return max(most.values(), default=0)


def _order(next_blocks: Sequence[Sequence[int]]) -> list[int]:
    """Return the blocks that are reached, each behind all that lead to it but for loops."""
    return postorder(0, next_blocks.__getitem__)[::-1] if next_blocks else []


def _merged(block: int, states: Sequence[_State | None]) -> _State:
    """Return what is known at the start of a block, whichever way led there."""
    certain = [state for state in states if state]
    if not states or len(certain) < len(states):
        return _State(block, {}, {})
    first, *others = certain
    if not others:
        return first
    one_origin = all(state.origin == first.origin for state in others)
    families = {family for state in certain for family in state.values}
    values: dict[str, Value] = {}
    for family in families:
        held = {state.value(family) for state in certain}
        values[family] = held.pop() if len(held) == 1 else (block, family)
    known = {
        address: any(state.known[address] for state in certain)
        for address in first.known
        if all(address in state.known for state in others)
    }
    return _State(first.origin if one_origin else block, values, known)


def _through(side: FunctionModel, block: int, state: _State, out: list[int]) -> _State:
    """Return what is known behind a block; loads again are added to ``out``."""
    body = side.body
    values, known = dict(state.values), dict(state.known)
    for k in range(body.bounds[block], body.bounds[block + 1]):
        done = side.effects[k]
        here = _State(state.origin, values, known)
        memory = done.memory
        touches = memory is not None and not side.on_stack(k) and not side.loads_constant(k)
        places = _addresses(here, memory or b.Memory(), _offsets(side, k))
        if touches and done.loads:
            out += [k for place in places if known.get(place)]
        if done.kind in (b.CALL, b.BLOCK) or (touches and done.stores):
            known = {other: may or other not in places for other, may in known.items()}
        if touches:
            known |= dict.fromkeys(places, False)
        values |= _written(side, body, k, here)
    return _State(state.origin, values, known)


def _addresses(state: _State, memory: b.Memory, offsets: Sequence[int]) -> list[Address]:
    base, index = state.value(memory.base), state.value(memory.indexed)
    return [(base, index, memory.symbol, memory.offset + more) for more in offsets]


def _offsets(side: FunctionModel, k: int) -> tuple[int, ...]:
    """Return where an access begins, in bytes from its address: twice for one of two values."""
    semantics = side.body.arch.semantics
    name = side.body.items[k].mnemonic.rpartition(" ")[2]
    if not semantics.pairs.match(name):
        return (0,)
    return (0, semantics.access_bytes(name, side.effects[k]) // 2)


def _written(side: FunctionModel, body: Body, k: int, state: _State) -> dict[str, Value]:
    """Return what registers hold that an instruction writes: a copy holds what it copies."""
    done = side.effects[k]
    families = set(side.written(k))
    if done.kind == b.CALL:
        families |= body.arch.abi.clobbered
    read = side.read(k)
    copies = done.kind == b.MOVE and not (done.loads or done.stores or done.packed)
    if copies and len(families) == len(read) == 1:
        return {next(iter(families)): state.value(next(iter(read)))}
    return {family: ("made", k, family) for family in families}
