"""The variables of the function that runs, by the debug info of the same code."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.arch import architecture
from hot_anvil.core.arch.semantics import USE
from hot_anvil.core.arch.state import MachineState, Register
from hot_anvil.core.binary.locations import FunctionLocals, Local, Op
from hot_anvil.core.code.records import Instruction
from hot_anvil.core.trace.calls import Frame
from hot_anvil.core.trace.code_map import CodeMap
from hot_anvil.core.trace.locating import View, Where, contents, locate
from hot_anvil.core.trace.moments import VARIABLE, Known, Setting
from hot_anvil.core.trace.regions import Regions
from hot_anvil.core.trace.tape import Access, Step
from hot_anvil.core.trace.values import parts_of

_OF_PARTS = ("struct", "array")
_MOST_SHOWN = 8  # parts of one variable


class Active(NamedTuple):
    """A variable where it can be found just now."""

    number: int  # among the function's variables
    local: Local
    ops: tuple[Op, ...]
    registers: frozenset[str]  # that say where it is, or hold it
    memory: bool  # it is told by what memory holds


class Variables:
    """What variables hold, from step to step."""

    def __init__(
        self,
        known: Known,
        code: CodeMap,
        state: MachineState,
        recorded: Sequence[Register],
        registers: list[int],
        regions: Regions,
    ) -> None:
        """Look at ``registers``, which live on, and at the memory of ``regions``."""
        self.known, self.code, self.state = known, code, state
        self.recorded, self.registers, self.regions = recorded, registers, regions
        self.numbers = {register.name: number for number, register in enumerate(recorded)}
        self._cache: dict[tuple[str, int], tuple[Active, ...]] = {}
        self._lists: dict[tuple[str, tuple[Active, ...]], tuple[Active, ...]] = {}
        self._sets = _Defined(code.isa, self.numbers)

    def look(
        self, frame: Frame, offset: int, step: Step | None, stores: Sequence[Access]
    ) -> list[Setting]:
        """Return what a step changed of a function's variables, and its stores without a name.

        ``offset`` is where the function goes on: what can be found there is looked at.
        """
        active, known = self._active(frame.function, offset), frame.active
        frame.active = active
        touched = self._touched(step) if step else frozenset()
        out: list[Setting] = []
        homes: list[tuple[int, int]] = []
        for one in active:
            fresh = active is not known and (known is None or one not in known)
            if fresh or (one.memory and (not step or step.accesses)) or one.registers & touched:
                out += self._changed(frame, one, homes, offset, step)
        out += [self.regions.unnamed(s) for s in stores if not _covered(s, homes)]
        return out

    def shown(self, frame: Frame) -> list[tuple[str, str, str]]:
        """Return (name, type, value) of what is known of a function's variables now."""
        out = []
        for one in frame.active or ():
            assert isinstance(one, Active)
            held = frame.values.get(one.number)
            if held is None:
                continue
            found = self._differences(frame, one.local, None, held, ())
            out += [(s.name, s.type, s.after) for s, _ in zip(found, range(_MOST_SHOWN))]  # noqa: B905
        return out

    def _touched(self, step: Step) -> frozenset[str]:
        """Return the registers that a step set, to whatever."""
        place = self.code.places.get(step.address)
        named = self._sets.by(place.instruction) if place else frozenset()
        return named | {self.recorded[change.register].name for change in step.changes}

    def _size(self, local: Local) -> int:
        return self.known.bits // 8 if local.type.kind == "pointer" else local.type.size

    def _changed(
        self,
        frame: Frame,
        one: Active,
        homes: list[tuple[int, int]],
        offset: int,
        step: Step | None,
    ) -> list[Setting]:
        view, size = self._view(frame, offset), self._size(one.local)
        pieces = locate(one.ops, view) if size else ()
        homes += [(p.address, p.address + (p.size or size)) for p in pieces if p.how == "memory"]
        held = self._held(one.local, pieces, size, view) if pieces else None
        before = frame.values.get(one.number)
        if held is None:
            return []
        if held == before:
            return self._stays(step, frame, one, pieces, held) if step else []
        frame.values[one.number] = held
        if frame.number == 1 and one.local.parameter and not one.local.inlined:
            self.regions.place_given(one.local.name, int.from_bytes(held[0], "little"))
        return list(self._differences(frame, one.local, before, held, pieces))

    def _held(
        self, local: Local, pieces: Sequence[Where], size: int, view: View
    ) -> tuple[bytes, bytes] | None:
        """Return a variable's bytes and which are known: of arrays and structs any number."""
        data = contents(pieces, size, view)
        if data is not None:
            return data, b"\1" * size
        if local.type.kind not in _OF_PARTS or len(pieces) != 1 or pieces[0].how != "memory":
            return None
        return self.regions.memory.look(pieces[0].address, size)

    def _differences(
        self,
        frame: Frame,
        local: Local,
        before: tuple[bytes, bytes] | None,
        held: tuple[bytes, bytes],
        pieces: Sequence[Where],
    ) -> Iterator[Setting]:
        home = pieces[0].address if pieces and pieces[0].how == "memory" else 0
        name = f"{local.inlined}: {local.name}" if local.inlined else local.name
        text = self.regions.text
        for part in parts_of(local.type):
            size = self.known.bits // 8 if part.type.kind == "pointer" else part.type.size
            stretch = slice(part.offset, part.offset + size)
            now = held[0][stretch]
            was = before[0][stretch] if before and 0 not in before[1][stretch] else None
            if now == was or len(now) < size or not size or 0 in held[1][stretch]:
                continue
            yield Setting(
                VARIABLE, f"{name}{part.path}", part.type.name,
                text(part.type, was) if was is not None else "", text(part.type, now), now,
                frame.number, name, part.type, home and home + part.offset,
            )  # fmt: skip

    def _stays(
        self,
        step: Step,
        frame: Frame,
        one: Active,
        pieces: Sequence[Where],
        held: tuple[bytes, bytes],
    ) -> list[Setting]:
        """Return a variable that was set to what it was, as far as the step shows that."""
        if one.local.type.kind in _OF_PARTS or not pieces:
            return []
        first = pieces[0]
        if first.how == "memory":
            stored = (a for a in step.accesses if a.stored)
            again = any(a.address <= first.address < a.address + len(a.data) for a in stored)
        else:
            again = bool(one.registers & self._touched(step)) and first.how == "register"
        kept = self._differences(frame, one.local, None, held, pieces) if again else ()
        return [setting._replace(before=setting.after) for setting in kept]

    def _active(self, function: str, offset: int) -> tuple[Active, ...]:
        key = function, offset
        if key not in self._cache:
            found = self.known.locals.get(function)
            active = tuple(_at(found, offset, self.state.debug_name)) if found else ()
            self._cache[key] = self._lists.setdefault((function, active), active)
        return self._cache[key]

    def _view(self, frame: Frame, offset: int) -> View:
        found = self.known.locals.get(frame.function)
        numbers, named = self.numbers, self.state.debug_name

        def register(name: str) -> int | None:
            number = numbers.get(named(name), -1)
            return self.registers[number] if number >= 0 else None

        def base(name: str) -> int | None:
            low, number = register(name), numbers.get(named(name), -1)
            bits = self.recorded[number].bits
            if low is None or bits >= self.known.bits:
                return low
            return low | self.registers[number + 1] << bits  # where one alone holds no address

        def start() -> int | None:
            rules = [r for r in (found.rules if found else ()) if r.low <= offset]
            held = base(rules[-1].register) if rules else None
            return None if held is None else held + rules[-1].offset

        def at_entry(name: str) -> int | None:
            return frame.entry.get(named(name))

        frame_base = found.frame_base if found else ()
        memory = self.regions.memory.read
        return View(register, base, memory, start, frame_base, at_entry, self.known.bits // 8)


class _Defined:
    """Which recorded registers an instruction names and sets."""

    def __init__(self, isa: str, numbers: Mapping[str, int]) -> None:
        self._arch = architecture(isa)
        self._known: dict[tuple[str, tuple[str, ...]], frozenset[str]] = {}
        self._by_family: dict[str, list[str]] = {}
        syntax = self._arch.syntax
        for name in numbers:
            written = next(filter(syntax.register.fullmatch, (name, f"%{name}")), "")
            if written:
                self._by_family.setdefault(syntax.family(written)[0], []).append(name)

    def by(self, item: Instruction) -> frozenset[str]:
        """Return the registers that an instruction sets."""
        key = item.mnemonic, item.operands
        if key not in self._known:
            self._known[key] = frozenset(self._names(item))
        return self._known[key]

    def _names(self, item: Instruction) -> Iterator[str]:
        syntax = self._arch.syntax
        roles = self._arch.semantics.roles(item.mnemonic, item.operands)
        for operand, role in zip(item.operands, roles, strict=False):
            if role != USE and syntax.register.fullmatch(operand):
                yield from self._by_family.get(syntax.family(operand)[0], ())


def _covered(access: Access, homes: Sequence[tuple[int, int]]) -> bool:
    return any(low <= access.address < high for low, high in homes)


def _at(found: FunctionLocals, offset: int, recorded: Callable[[str], str]) -> Iterator[Active]:
    """Give the variables that can be found at a place of a function."""
    for number, local in enumerate(found.variables):
        span = next((s for s in local.spans if s.low <= offset < s.high), None)
        if span is not None:
            registers = frozenset(recorded(op.register) for op in span.ops if op.register)
            yield Active(number, local, span.ops, registers, _reads_memory(span.ops))


def _reads_memory(ops: Sequence[Op]) -> bool:
    computed = bool(ops) and ops[-1].name == "stack_value"
    if any(op.name in ("fbreg", "deref", "deref_size", "call_frame_cfa") for op in ops):
        return True
    return not computed and any(op.name == "breg" for op in ops)
