"""Loads and stores: which memory they go to, and where in it."""

import re
from collections.abc import Callable, Sequence

import numpy as np

from hot_anvil.core.arch.ptx.device.lanes import (
    DTYPES,
    Array,
    Lanes,
    Mask,
    UnknownInstructionError,
    fetch,
    fitted,
)
from hot_anvil.core.arch.ptx.device.memory import (
    LOCAL_WINDOW,
    SHARED_WINDOW,
    Access,
    Fault,
    FaultError,
)

Run = Callable[[Lanes, Mask], None]
_SPACES = ("param", "global", "shared", "local", "const")
_PLACE = re.compile(r"\[\s*([\w$%.]+)\s*(?:\+\s*(-?\w+))?\s*\]$")


def space_of(parts: Sequence[str]) -> str:
    return next((p.partition("::")[0] for p in parts if p.partition("::")[0] in _SPACES), "generic")


def _place(operand: str) -> tuple[str, int]:
    found = _PLACE.match(operand)
    if not found:
        raise UnknownInstructionError(f"{operand} is no address that is known")
    return found[1], int(found[2] or "0", 0)


def addresses(operand: str) -> Callable[[Lanes], Array]:
    name, away = _place(operand)
    read = fetch(name, "u64")
    offset = np.uint64(away & (1 << 64) - 1)

    def address(lanes: Lanes) -> Array:
        return np.broadcast_to(read(lanes) + offset, lanes.count)

    return address


def generic_address(parts: Sequence[str], to: str, given: str) -> Run:
    """Return ``cvta``: an address of a space as a generic one, or back."""
    space = space_of(parts)
    window = {"shared": SHARED_WINDOW, "local": LOCAL_WINDOW}.get(space, 0)
    read = fetch(given, "u64")
    sign = -1 if "to" in parts else 1

    def run(lanes: Lanes, mask: Mask) -> None:
        lanes.put(to, read(lanes) + np.uint64(sign * window & (1 << 64) - 1), mask)

    return run


def access(parts: Sequence[str], operands: Sequence[str], number: int) -> Run:
    """Return a load or a store, of up to four values side by side."""
    kind = parts[-1]
    stores = parts[0] == "st"
    values, where = (operands[1], operands[0]) if stores else (operands[0], operands[1])
    names = [name.strip() for name in values.strip("{}").split(",")]
    size = np.dtype(DTYPES[kind]).itemsize
    space = space_of(parts)
    if space == "param":
        return _parameter(where, names, kind, size)
    address = addresses(where)
    reads = [fetch(name, kind) for name in names] if stores else []

    def run(lanes: Lanes, mask: Mask) -> None:
        active = np.flatnonzero(mask)
        if not len(active):
            return
        at = address(lanes)[active]
        for index, name in enumerate(names):
            here = at + np.uint64(index * size)
            value = None
            if stores:
                value = np.broadcast_to(reads[index](lanes), lanes.count)[active]
            data, found = found_in(lanes, space, here, size, stores, active, number, value, kind)
            if stores:
                data[found] = value
                continue
            whole = np.zeros(lanes.count, DTYPES[kind])
            whole[active] = data[found]
            register = lanes.register(name)
            np.copyto(register, fitted(whole, register.dtype), where=mask)

    return run


def found_in(
    lanes: Lanes,
    space: str,
    address: Array,
    size: int,
    stores: bool,
    active: Array,
    number: int,
    value: Array | None,
    kind: str,
) -> tuple[Array, Array]:
    """Return an array of a space as values of a type, and where in it some lanes go."""
    where = Access(number, active, lanes.thread, lanes.blocks[lanes.block_of])
    if space == "generic":
        space, address = _of_generic(address, where, size, stores)
    if space == "shared":
        shared = lanes.shared
        found = shared.indices(address, size, stores, where, value)
        return _heard(lanes, space, kind, stores, active, address, shared.data, found // size)
    if space == "local":
        at = address.astype(np.int64)
        bad = (at < 0) | (at + size > lanes.local_size)
        if bad.any():
            lane = int(active[int(np.flatnonzero(bad)[0])])
            raise FaultError(
                Fault("outside", number, int(lanes.thread[lane]), int(where.block[lane]),
                      int(at[bad][0]), size, stores, "local memory", int(at[bad][0]))
            )  # fmt: skip
        found = (active * lanes.local_stride + at) // size
        return _heard(lanes, space, kind, stores, active, at, lanes.local, found)
    memory = lanes.memory
    found = memory.indices(address, size, stores, where)
    return _heard(lanes, "global", kind, stores, active, found, memory.data, found // size)


def _heard(
    lanes: Lanes,
    space: str,
    kind: str,
    stores: bool,
    active: Array,
    offsets: Array,
    data: Array,
    found: Array,
) -> tuple[Array, Array]:
    """Return an array as values of a type with the places in it; tell whoever watches."""
    typed = data.view(DTYPES[kind])
    if lanes.heard is not None:
        lanes.heard(space, kind, stores, active, offsets, typed, found)
    return typed, found


def _of_generic(address: Array, where: Access, size: int, stores: bool) -> tuple[str, Array]:
    """Return the space that generic addresses are in: all lanes have to go to the same."""
    local = address >= np.uint64(LOCAL_WINDOW)
    shared = (address >= np.uint64(SHARED_WINDOW)) & ~local
    if local.all():
        return "local", address - np.uint64(LOCAL_WINDOW)
    if shared.all():
        return "shared", address - np.uint64(SHARED_WINDOW)
    if not (local | shared).any():
        return "global", address
    lane = int(where.lanes[0])
    raise FaultError(
        Fault("window", where.place, int(where.thread[lane]), int(where.block[lane]),
              int(address[0]), size, stores)
    )  # fmt: skip


def _parameter(where: str, names: Sequence[str], kind: str, size: int) -> Run:
    name, away = _place(where)
    dtype = DTYPES[kind]

    def run(lanes: Lanes, mask: Mask) -> None:
        data = lanes.parameters[name]
        for index, to in enumerate(names):
            begin = away + index * size
            value = np.frombuffer(data[begin : begin + size], dtype)[0]
            lanes.put(to, np.asarray(value), mask)

    return run
