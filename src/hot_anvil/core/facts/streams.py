"""How a loop goes through memory: which accesses advance by how much in a pass."""

import re
from collections.abc import Sequence
from functools import lru_cache
from typing import NamedTuple

from hot_anvil.core.code import Instruction
from hot_anvil.core.meaning import base as b
from hot_anvil.core.meaning.base import Memory
from hot_anvil.core.side import Side

_SCALE = re.compile(r"%\w+, ?(\d)\)|(?:lsl|uxtw|sxtw|sxtx) ?#?(\d)\]")
_BEFORE = re.compile(r"\[\w+, ?#?(-?\d+)\]!|-[XYZ]$")  # the base moves before the access
_AFTER = re.compile(r"\[?[XYZ]\+$|@\w+\+$")  # and after it, by the size of the access
_SIZES = {"b": 1, "w": 2, "l": 4, "q": 8, "h": 2}
_CARRY = re.compile(r"adc|sbc|addc|subc")


class Stream(NamedTuple):
    """Accesses that go through one array."""

    places: tuple[int, ...]  # instructions
    stores: bool
    size: int  # bytes of one access, 0 when they differ
    step: int  # bytes it advances in a pass
    offsets: tuple[int, ...]  # distinct places of the accesses, in bytes from the first

    @property
    def copies(self) -> int:
        """How many neighbouring elements (or vectors) one pass accesses."""
        if not self.size or self.step % self.size:
            return 1
        count = abs(self.step) // self.size
        return count if len(self.offsets) >= count else 1


def streams(side: Side, places: Sequence[int]) -> tuple[Stream, ...]:
    """Return the streams of one pass, given its instructions in order."""
    steps = _steps(side, places)
    moved: dict[str, int] = {}
    groups: dict[tuple[str, str, str, bool], list[tuple[int, int, int]]] = {}
    scales: dict[tuple[str, str, str, bool], int] = {}
    for k in places:
        done, item = side.deeds[k], side.body.items[k]
        memory = done.memory
        before, after = _writeback(item, memory, done, side.body.isa)
        if memory and before:
            moved[memory.base] = moved.get(memory.base, 0) + before
        if memory and (done.loads or done.stores) and not side.on_stack(k):
            scale = _scale(item.operands)
            at = moved.get(memory.base, 0) + scale * moved.get(memory.indexed, 0)
            at += 0 if before or after else memory.offset
            for stores in {not done.loads, done.stores}:
                key = memory.base, memory.indexed, memory.symbol, stores
                groups.setdefault(key, []).append((k, at, access_bytes(item, done, side.body.isa)))
                scales[key] = scale
        if memory and after:
            moved[memory.base] = moved.get(memory.base, 0) + after
        own = _constant_step(side, k)
        if own:
            moved[own[0]] = moved.get(own[0], 0) + own[1]
    out = []
    for key, rows in groups.items():
        base, indexed, _, stores = key
        parts = [steps.get(base, 0) if base else 0, steps.get(indexed, 0) if indexed else 0]
        if None in parts:
            continue
        step = (parts[0] or 0) + scales[key] * (parts[1] or 0)
        if step:
            rows = _joined(side, rows)
            sizes = {size for _, _, size in rows}
            offsets = sorted({at for _, at, _ in rows})
            shifted = tuple(at - offsets[0] for at in offsets)
            size = sizes.pop() if len(sizes) == 1 else 0
            out.append(Stream(tuple(k for k, _, _ in rows), stores, size, step, shifted))
    return tuple(out)


def _steps(side: Side, places: Sequence[int]) -> dict[str, int | None]:
    """Return by how much each register grows in a pass; None where that is not constant."""
    steps: dict[str, int | None] = {}

    def grow(family: str, by: int | None) -> None:
        old = steps.get(family, 0)
        steps[family] = None if by is None or old is None else old + by

    for k in places:
        done, item = side.deeds[k], side.body.items[k]
        before, after = _writeback(item, done.memory, done, side.body.isa)
        based = done.memory.base if done.memory else ""
        if before or after:
            grow(based, before or after)
        own = _constant_step(side, k)
        if own:
            grow(*own)
            continue
        for family in side.written(k):
            if not (family == based and (before or after)):
                grow(family, None)
    return steps


def counter_steps(side: Side, places: Sequence[int]) -> dict[int, int]:
    """Return what makes registers or stack slots grow by constants: place -> step."""
    registers = {k: own[1] for k in places if (own := _constant_step(side, k))}
    slots = {}
    for k in places:
        done = side.deeds[k]
        counts = done.kind in (b.ADD, b.SUB) and done.loads and done.stores
        if k in side.slots and counts and done.immediate:
            slots[k] = -done.immediate if done.kind == b.SUB else done.immediate
        if k in registers and _through_slot(side, k):
            slots[k] = registers[k]
    return slots or registers  # what lives in slots is loaded anew for each use


def _through_slot(side: Side, k: int) -> bool:
    """Tell whether what an instruction counts was loaded from a slot and goes back there."""
    near = {side.deeds[j].memory: j for j in range(max(k - 3, 0), k) if side.deeds[j].loads}
    return any(
        side.deeds[j].stores and side.deeds[j].memory in near and j in side.slots
        for j in range(k + 1, min(k + 3, len(side)))
    )


def _constant_step(side: Side, k: int) -> tuple[str, int] | None:
    """Return (register family, step) of an instruction that adds a constant to a register."""
    done = side.deeds[k]
    if done.kind not in (b.ADD, b.SUB, b.ADDRESS) or done.packed:
        return None
    if done.kind == b.ADDRESS:
        memory = done.memory
        by = memory.offset if memory and not memory.indexed and not memory.symbol else None
    else:
        by = done.immediate if not (done.loads or done.stores) else None
    written = side.written(k)
    if not by or abs(by) > 1 << 20 or len(written) != 1 or not written <= side.read(k):
        return None
    return min(written), -by if done.kind == b.SUB else by


def _writeback(item: Instruction, memory: Memory | None, done: b.Deed, isa: str) -> tuple[int, int]:
    """Return by how much an access moves its base register, before it and after it."""
    if memory is None or not memory.base or isa in ("x86", "riscv", "ptx"):
        return 0, 0
    for index, operand in enumerate(item.operands):
        found = _BEFORE.search(operand)
        if found:
            return int(found[1] or -1), 0
        if _AFTER.search(operand):
            return 0, 1 if isa == "avr" else done.bits // 8
        if operand.startswith("[") and index + 1 < len(item.operands):
            return 0, b.number(item.operands[index + 1]) or 0
    return 0, 0


@lru_cache(maxsize=1 << 15)
def _scale(operands: tuple[str, ...]) -> int:
    for operand in operands:
        found = _SCALE.search(operand)
        if found:
            return int(found[1]) if found[1] else 1 << int(found[2])
    return 1


def access_bytes(item: Instruction, done: b.Deed, isa: str) -> int:
    """Return how many bytes an instruction loads or stores, 0 when that is not known."""
    name = item.mnemonic.rpartition(" ")[2]
    narrow = re.match(r"mov[sz]([bwl])[wlq]$", name) if isa == "x86" else None
    if narrow:
        return _SIZES[narrow[1]]
    if isa in ("aarch64", "arm"):
        small = re.match(r"(?:ldu?r|stu?r)s?([bh])", name)
        if small:
            return _SIZES[small[1]]
        if name.startswith("ldrsw"):
            return 4
        pair = 2 if re.match(r"ld[n]?p|st[n]?p|ldrd|strd", name) else 1
        return pair * (done.width // 8 if done.packed else done.bits // 8)
    if done.packed:
        if done.width and re.match(r"v?pmov[sz]x", name):
            return 0
        return done.width // 8
    return done.bits // 8


def _joined(side: Side, rows: Sequence[tuple[int, int, int]]) -> list[tuple[int, int, int]]:
    """Return accesses with the pieces of one wide value joined, as narrow machines take it."""
    if side.body.isa not in ("avr", "msp430"):
        return list(rows)
    out: list[tuple[int, int, int]] = []
    for k, at, size in sorted(rows, key=lambda row: row[1]):
        if out and out[-1][1] + out[-1][2] == at and _one_value(side, out[-1][0], k):
            first, begin, had = out[-1]
            out[-1] = (first, begin, had + size)
        else:
            out.append((k, at, size))
    return out


def _one_value(side: Side, first: int, second: int) -> bool:
    """Tell whether two accesses take neighbouring pieces of one value."""
    if _CARRY.match(side.body.items[second].mnemonic):
        return True
    numbers = []
    for k in (first, second):
        names = re.findall(r"\br(\d+)\b", " ".join(side.body.items[k].operands))
        numbers.append(int(names[0]) if names else -9)
    return numbers[1] - numbers[0] == 1
