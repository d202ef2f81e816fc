"""How a loop goes through memory: which accesses advance by how much in a pass."""

import re
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.semantics import Memory
from hot_anvil.core.model.function import FunctionModel


class Stream(NamedTuple):
    """Accesses that go through one array."""

    places: tuple[int, ...]  # instructions
    stores: bool
    step: int  # bytes it advances in a pass
    accesses: tuple[tuple[int, int], ...]  # (offset in bytes from the first, bytes), distinct

    @property
    def copies(self) -> int:
        """How many times a pass does the same to the next elements (or vectors).

        The largest share of the step by which the accesses can be moved
        without another pattern.
        """
        step = abs(self.step)
        pattern = {(at % step, size) for at, size in self.accesses}
        for count in range(min(len(pattern), step), 1, -1):
            by = step // count
            if step % count == 0 and {((at + by) % step, n) for at, n in pattern} == pattern:
                return count
        return 1

    @property
    def sizes(self) -> list[int]:
        """The bytes of its accesses, each size once."""
        return sorted({size for _, size in self.accesses})


Form = tuple[dict[str, int], int] | None  # registers at the start of a pass, each so many times,
# and a constant; None: not of that form


def streams(side: FunctionModel, places: Sequence[int]) -> tuple[Stream, ...]:
    """Return the streams of one pass, given its instructions in order.

    Addresses are followed as sums of what registers hold at the start of the
    pass; those whose registers grow by constants make streams.
    """
    forms: dict[str, Form] = {}
    groups: dict[tuple[Any, ...], list[tuple[int, int, int]]] = {}
    semantics = side.body.arch.semantics
    for k in places:
        done, item = side.effects[k], side.body.items[k]
        memory = done.memory
        moves = memory is not None and bool(memory.base)
        before, after = semantics.writeback(item.operands, done) if moves else (0, 0)
        if memory and before:
            forms[memory.base] = _plus(_form(forms, memory.base), ({}, before))
        if memory and (done.loads or done.stores) and not side.on_stack(k):
            offset = 0 if before or after else memory.offset
            at = _address(forms, memory, semantics.scale(item.operands), offset)
            for stores in {not done.loads, done.stores}:
                if at is None:
                    break
                key = *sorted(at[0].items()), memory.symbol, stores
                own = groups.setdefault(key, [])
                size = access_bytes(side, k)
                if semantics.pairs.match(item.mnemonic):  # two values, one after the other
                    own += [(k, at[1], size // 2), (k, at[1] + size // 2, size // 2)]
                else:
                    own.append((k, at[1], size))
        if memory and after:
            forms[memory.base] = _plus(_form(forms, memory.base), ({}, after))
        moved = memory.base if memory and (before or after) else ""
        for family in side.written(k):
            if family != moved:
                forms[family] = _result(side, k, forms)
    steps = {family: _step(family, form) for family, form in forms.items()}
    found = (_stream(side, key, rows, steps) for key, rows in groups.items())
    return tuple(stream for stream in found if stream)


def _stream(
    side: FunctionModel,
    key: tuple[Any, ...],
    rows: list[tuple[int, int, int]],
    steps: Mapping[str, int | None],
) -> Stream | None:
    """Return a stream of accesses (instruction, offset, bytes), None if they do not advance."""
    *registers, _, stores = key
    parts = [(times, steps.get(family, 0)) for family, times in registers]
    if any(step is None for _, step in parts):
        return None
    step = sum(times * (by or 0) for times, by in parts)
    if not step:
        return None
    rows = _joined(side, rows)
    first = min(at for _, at, _ in rows)
    accesses = tuple(sorted({(at - first, size) for _, at, size in rows}))
    return Stream(tuple(k for k, _, _ in rows), stores, step, accesses)


def _form(forms: Mapping[str, Form], family: str) -> Form:
    return forms.get(family, ({family: 1}, 0)) if family else ({}, 0)


def _plus(one: Form, other: Form, times: int = 1) -> Form:
    """Return the sum of a form and a multiple of another."""
    if one is None or other is None:
        return None
    registers = dict(one[0])
    for family, count in other[0].items():
        registers[family] = registers.get(family, 0) + times * count
    return {f: count for f, count in registers.items() if count}, one[1] + times * other[1]


def _address(forms: Mapping[str, Form], memory: Memory, scale: int, offset: int) -> Form:
    at = _plus(_form(forms, memory.base), _form(forms, memory.indexed), scale)
    return _plus(at, ({}, offset))


def _result(side: FunctionModel, k: int, forms: Mapping[str, Form]) -> Form:
    """Return the form of what an instruction writes to its one register."""
    done, item = side.effects[k], side.body.items[k]
    semantics = side.body.arch.semantics
    if len(side.written(k)) != 1 or done.packed or (done.loads or done.stores):
        return None
    if done.kind == b.CONSTANT:
        return {}, done.immediate or 0
    if done.kind == b.ADDRESS:
        memory = done.memory
        if memory is None or memory.symbol:
            return None
        return _address(forms, memory, semantics.scale(item.operands), memory.offset)
    read = side.read(k)
    if done.kind in (b.MOVE, b.EXTEND) and len(read) == 1:
        return _form(forms, min(read))
    if done.kind not in (b.ADD, b.SUB) or semantics.carry.match(item.mnemonic):
        return None
    if done.immediate is not None and len(read) == 1:
        by = -done.immediate if done.kind == b.SUB else done.immediate
        return _plus(_form(forms, min(read)), ({}, by))
    return _sum(side, k, forms) if done.kind == b.ADD else None


def _sum(side: FunctionModel, k: int, forms: Mapping[str, Form]) -> Form:
    """Return the form of the sum of an addition's registers."""
    syntax = side.body.arch.syntax
    operands = side.body.items[k].operands
    sources = operands[1:] if len(operands) == 3 and not syntax.destination_last else operands
    names = [syntax.register.findall(operand) for operand in sources]
    if len(operands) > 3 or any(len(found) != 1 for found in names):
        return None  # shifted, or not registers alone
    total: Form = ({}, 0)
    for found in names:
        total = _plus(total, _form(forms, syntax.family(found[0])[0]))
    return total


def _step(family: str, form: Form) -> int | None:
    """Return by how much a register has grown at the end of a pass, None if not by a constant."""
    return form[1] if form is not None and form[0] == {family: 1} else None


def counter_steps(side: FunctionModel, places: Sequence[int]) -> dict[int, int]:
    """Return what makes registers or stack slots grow by constants: place -> step."""
    registers = {k: own[1] for k in places if (own := _constant_step(side, k))}
    slots = {}
    for k in places:
        done = side.effects[k]
        counts = done.kind in (b.ADD, b.SUB) and done.loads and done.stores
        if k in side.slots and counts and done.immediate:
            slots[k] = -done.immediate if done.kind == b.SUB else done.immediate
        if k in registers and _through_slot(side, k):
            slots[k] = registers[k]
    return slots or registers  # what lives in slots is loaded anew for each use


def _through_slot(side: FunctionModel, k: int) -> bool:
    """Tell whether what an instruction counts was loaded from a slot and goes back there."""
    near = {side.effects[j].memory: j for j in range(max(k - 3, 0), k) if side.effects[j].loads}
    return any(
        side.effects[j].stores and side.effects[j].memory in near and j in side.slots
        for j in range(k + 1, min(k + 3, len(side)))
    )


def _constant_step(side: FunctionModel, k: int) -> tuple[str, int] | None:
    """Return (register family, step) of an instruction that adds a constant to a register."""
    done = side.effects[k]
    if done.kind not in (b.ADD, b.SUB, b.ADDRESS) or done.packed:
        return None
    if side.body.arch.semantics.carry.match(side.body.items[k].mnemonic):
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


def access_bytes(side: FunctionModel, k: int) -> int:
    """Return how many bytes an instruction loads or stores, 0 when that is not known."""
    name = side.body.items[k].mnemonic.rpartition(" ")[2]
    return side.body.arch.semantics.access_bytes(name, side.effects[k])


def _joined(
    side: FunctionModel, rows: Sequence[tuple[int, int, int]]
) -> list[tuple[int, int, int]]:
    """Return accesses with the pieces of one wide value joined, as narrow machines take it."""
    if not side.body.arch.semantics.narrow:
        return list(rows)
    out: list[tuple[int, int, int]] = []
    for k, at, size in sorted(rows, key=lambda row: row[1]):
        if out and out[-1][1] + out[-1][2] == at and _one_value(side, out[-1][0], k):
            first, begin, had = out[-1]
            out[-1] = (first, begin, had + size)
        else:
            out.append((k, at, size))
    return out


def _one_value(side: FunctionModel, first: int, second: int) -> bool:
    """Tell whether two accesses take neighbouring pieces of one value."""
    if side.body.arch.semantics.carry.match(side.body.items[second].mnemonic):
        return True
    numbers = []
    for k in (first, second):
        names = re.findall(r"\b[a-z](\d+)\b", " ".join(side.body.items[k].operands))
        numbers.append(int(names[0]) if names else -9)
    return numbers[1] - numbers[0] == 1
