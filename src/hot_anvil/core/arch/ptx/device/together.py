"""Atomic operations, and what the lanes of a warp hand to each other."""

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from hot_anvil.core.arch.ptx.device.arithmetic import compare as _compare
from hot_anvil.core.arch.ptx.device.lanes import (
    DTYPES,
    Array,
    Lanes,
    Mask,
    UnknownInstructionError,
    fetch,
    fitted,
    split_pair,
)
from hot_anvil.core.arch.ptx.device.moving import Run, addresses, found_in, space_of
from hot_anvil.core.arch.ptx.device.schedule import WARP


def atomic(parts: Sequence[str], operands: Sequence[str], number: int) -> Run:
    """Return an atomic operation; lanes take their turns by their numbers."""
    kind = parts[-1]
    what = next((p for p in parts if p in _ATOMIC), "")
    if not what:
        raise UnknownInstructionError("this atomic operation is not simulated")
    plain = parts[0] == "red"
    to = "_" if plain else operands[0]
    rest = operands if plain else operands[1:]
    address = addresses(rest[0])
    given = [fetch(operand, kind) for operand in rest[1:]]
    size, space = np.dtype(DTYPES[kind]).itemsize, space_of(parts)

    def run(lanes: Lanes, mask: Mask) -> None:
        active = np.flatnonzero(mask)
        if not len(active):
            return
        at = address(lanes)[active]
        unwatched = lanes.shared.watched
        lanes.shared.watched = False  # atomic operations do not race with each other
        data, found = found_in(lanes, space, at, size, True, active, number, None, kind)
        lanes.shared.watched = unwatched
        values = [np.broadcast_to(one(lanes), lanes.count)[active] for one in given]
        before = _in_turn(what, data, found, values)
        if to != "_":
            whole = np.zeros(lanes.count, DTYPES[kind])
            whole[active] = before
            register = lanes.register(to)
            np.copyto(register, fitted(whole, register.dtype), where=mask)

    return run


def _in_turn(what: str, data: Array, found: Array, values: Sequence[Array]) -> Array:
    """Do an atomic operation lane by lane; return what each found."""
    if what == "add" and data.dtype.kind in "iu":
        return _added(data, found, values[0])
    before = np.empty(len(found), data.dtype)
    do = _ATOMIC[what]
    for lane, at in enumerate(found):
        old = before[lane] = data[at]
        data[at] = do(old, *(value[lane] for value in values))
    return before


def _added(data: Array, found: Array, value: Array) -> Array:
    """Add whole numbers, all at once: their order does not matter but for what each finds."""
    order = np.argsort(found, kind="stable")
    places, addends = found[order], value[order].astype(data.dtype)
    sums = np.cumsum(addends, dtype=data.dtype)
    starts = np.flatnonzero(np.r_[True, places[1:] != places[:-1]])
    base = np.repeat(sums[starts] - addends[starts], np.diff(np.r_[starts, len(places)]))
    before = np.empty(len(found), data.dtype)
    before[order] = data[places] + (sums - addends - base)
    np.add.at(data, found, value.astype(data.dtype))
    return before


_ATOMIC: dict[str, Callable[..., Any]] = {
    "add": lambda old, a: old + a,
    "exch": lambda old, a: a,
    "min": min,
    "max": max,
    "and": lambda old, a: old & a,
    "or": lambda old, a: old | a,
    "xor": lambda old, a: old ^ a,
    "inc": lambda old, a: type(old)(0) if old >= a else old + type(old)(1),
    "dec": lambda old, a: a if old == 0 or old > a else old - type(old)(1),
    "cas": lambda old, a, b: b if old == a else old,
}


def shuffle(parts: Sequence[str], operands: Sequence[str]) -> Run:
    """Return ``shfl``: values of other lanes of a warp."""
    mode = next(p for p in parts if p in ("up", "down", "bfly", "idx"))
    to, told = split_pair(operands[0])
    value, by, clamp = (
        fetch(operand, kind)
        for operand, kind in zip(operands[1:4], ("b32", "s32", "u32"), strict=True)
    )

    def run(lanes: Lanes, mask: Mask) -> None:
        lane = np.arange(lanes.count) % WARP
        base = np.arange(lanes.count) - lane
        bound = np.broadcast_to(clamp(lanes), lanes.count).astype(np.int64)
        away = np.broadcast_to(by(lanes), lanes.count).astype(np.int64) & 31
        segment = bound >> 8 & 31
        least = lane & segment
        limit = least | (bound & 31 & ~segment)
        aimed = {"down": lane + away, "up": lane - away, "bfly": lane ^ away,
                 "idx": least | (away & ~segment)}[mode]  # fmt: skip
        fits = aimed >= (bound & 31) if mode == "up" else aimed <= limit
        source = base + np.where(fits, aimed, lane)
        given = np.broadcast_to(value(lanes), lanes.count)
        lanes.put(to, given[source], mask)
        if told:
            lanes.put(told, fits, mask)

    return run


def vote(parts: Sequence[str], operands: Sequence[str]) -> Run:
    """Return ``vote``, ``match.any`` and ``activemask``: what the lanes of a warp say together."""
    word = parts[0]
    to = operands[0]
    if word == "match":
        if "any" not in parts:
            raise UnknownInstructionError("match.all is not simulated")
        read = fetch(operands[1], parts[-1])
        return lambda lanes, mask: lanes.put(to, _matching(lanes, mask, read(lanes)), mask)
    text = operands[1] if word == "vote" else ""
    ask = fetch(text.lstrip("!"), "pred") if text else None
    how = next((p for p in parts if p in ("all", "any", "uni", "ballot")), "ballot")

    def run(lanes: Lanes, mask: Mask) -> None:
        said = np.ones(lanes.count, np.bool_) if ask is None else ask(lanes)
        said = ~np.asarray(said) if text.startswith("!") else said
        yes = (np.broadcast_to(said, lanes.count) & mask).reshape(-1, WARP)
        every = mask.reshape(-1, WARP)
        if how == "ballot":
            weights = np.uint64(1) << np.arange(WARP, dtype=np.uint64)
            made = (yes * weights).sum(1).astype(np.uint32)
        elif how == "any":
            made = yes.any(1)
        else:
            made = (yes == every).all(1)
            if how == "uni":
                made |= ~yes.any(1)
        lanes.put(to, np.repeat(made, WARP), mask)

    return run


def _matching(lanes: Lanes, mask: Mask, value: Any) -> Array:
    given = np.broadcast_to(value, lanes.count).reshape(-1, WARP)
    active = mask.reshape(-1, WARP)
    same = _compare("eq", given[:, :, None], given[:, None, :], False) & active[:, None, :]
    weights = np.uint64(1) << np.arange(WARP, dtype=np.uint64)
    return np.asarray((same * weights).sum(2).astype(np.uint32).reshape(-1))
