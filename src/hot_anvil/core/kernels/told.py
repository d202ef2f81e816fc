"""What threads of a kernel did, in words: registers and memory with their old and new values."""

import struct
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from hot_anvil.core.arch.ptx.device.watching import Moment, Touched
from hot_anvil.core.code.records import Instruction
from hot_anvil.core.kernels.records import ThreadSteps
from hot_anvil.core.trace.selection import Choice

_FLOATS = {"f16": ("<e", "{:.5g}"), "f32": ("<f", "{:.9g}"), "f64": ("<d", "{:.17g}")}
_FEW = 4  # values told of a warp whose threads have others each
_WORD = 8  # bytes of an address


class Told(NamedTuple):
    """One instruction that a watched thread came to."""

    number: int  # from 1
    instruction: Instruction
    threads: tuple[int, ...]  # for which it is
    said: tuple[str, ...]  # what it did to them
    moment: Moment

    @property
    def file(self) -> str:
        """Where its source line is, "" where that is not known."""
        return self.instruction.file

    @property
    def line(self) -> int:
        """Its source line, 0 where that is not known."""
        return self.instruction.line


def told_moments(steps: ThreadSteps) -> Iterator[Told]:
    """Give the recorded instructions in words."""
    for number, one in enumerate(steps.moments, 1):
        item = steps.instructions[one.place]
        said = tuple(_said(steps, item, one))
        yield Told(number, item, one.does, said, one)


def chosen_of(told: Sequence[Told], choice: Choice) -> list[Told]:
    """Return the steps that a choice asks for: by line, by register or memory, or by stores."""
    file, line = choice.at
    out = []
    for one in told:
        if line and (one.line != line or (file and not one.file.endswith(file))):
            continue
        if choice.watch and not _sets(one.moment, choice.watch):
            continue
        if choice.only_changes and not any(t.stored for t in one.moment.touched):
            continue
        out.append(one)
    return out


def _sets(moment: Moment, name: str) -> bool:
    """Tell whether an instruction sets a register, or stores to a buffer or variable."""
    registers = {one.name for one in moment.sets}
    stored = {one.name for one in moment.touched if one.stored}
    return name in registers or f"%{name}" in registers or name in stored


def _said(steps: ThreadSteps, item: Instruction, one: Moment) -> Iterator[str]:
    guard, _, name = item.mnemonic.rpartition(" ")
    if guard:
        if not one.does:
            yield "not taken" if name.startswith("bra") else "not for it"
        elif len(one.does) == len(one.threads) and name.startswith("bra"):
            yield "taken"
        elif name.startswith("bra"):
            yield f"taken by {len(one.does)} of {len(one.threads)} threads"
    for touch in _alike(one.touched):
        yield _memory(steps, touch)
    for change in one.sets:
        after = _values([_value(change.type, v, steps) for v in change.after])
        before = _values([_value(change.type, v, steps) for v in change.before])
        told = before in (after, "0", "false")
        yield f"{change.name} = {after}" + ("" if told else f" (was {before})")


def _alike(touched: Sequence[Touched]) -> list[list[Touched]]:
    """Return accesses of threads, those of one kind together."""
    found: dict[tuple[str, str, str, bool], list[Touched]] = {}
    for one in touched:
        found.setdefault((one.space, one.name, one.type, one.stored), []).append(one)
    return list(found.values())


def _memory(steps: ThreadSteps, touched: Sequence[Touched]) -> str:
    one = touched[0]
    element = {name: size for name, _, _, size in steps.buffers}.get(one.name, 0)
    unsigned = steps.unsigned
    places = _values([_place(t, element) for t in touched])
    if not one.stored:
        return f"reads {places}"
    # The code does not say whether what it stores has a sign: where the source does, that counts.
    kind = one.type if one.type in _FLOATS else ("u" if one.name in unsigned else "s")
    after = _values([_value(kind, t.after, steps) for t in touched])
    before = _values([_value(kind, t.before, steps) for t in touched])
    return f"{places} = {after} (was {before})"


def _place(one: Touched, element: int) -> str:
    size = element or len(one.after)
    name = one.name or f"{one.space} memory"
    if element and one.offset % size == 0:
        return f"{name}[{one.offset // size}]"
    return f"{name}+{one.offset}"


def _value(kind: str, data: bytes, steps: ThreadSteps) -> str:
    if kind == "pred":
        return "true" if data[0] else "false"
    if kind in _FLOATS:
        form, shown = _FLOATS[kind]
        return shown.format(*struct.unpack(form, data))
    plain = int.from_bytes(data, "little")
    if len(data) == _WORD:
        for name, at, size, _ in steps.buffers:
            if at <= plain <= at + size and size:
                return f"{name}+{plain - at}" if plain > at else name
    return str(int.from_bytes(data, "little", signed=not kind.startswith("u")))


def _values(words: Sequence[str]) -> str:
    """Return what threads have each: once where it is the same for all."""
    if len(set(words)) == 1:
        return words[0]
    if len(words) <= _FEW:
        return ", ".join(words)
    return f"{words[0]}, {words[1]} … {words[-1]}"
