"""A record told instruction by instruction: source line, depth, pass, variables and memory by name.

What stands on the tape is addresses and numbers; here it is put beside the code and the variables
of the source. What no debug info names keeps its address.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Literal, NamedTuple

from hot_anvil.core.arch import architecture, state_of
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.semantics import USE
from hot_anvil.core.binary.locations import FunctionLocals, Local, Op
from hot_anvil.core.binary.types import Type
from hot_anvil.core.binary.variables import Placed
from hot_anvil.core.code.records import Instruction
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.trace.code_map import CodeMap, CodePlace
from hot_anvil.core.trace.locating import View, Where, contents, locate
from hot_anvil.core.trace.memory import Memory
from hot_anvil.core.trace.tape import Access, Step, Tape
from hot_anvil.core.trace.values import Part, number_text, part_over, parts_of

Whose = Literal["variable", "buffer", "memory"]
VARIABLE: Whose = "variable"  # of the function that runs
BUFFER: Whose = "buffer"  # that the entry was given, or a variable that lasts
MEMORY: Whose = "memory"  # that has no name


_LOWEST_ADDRESS = 0x10000  # below it a number is rather a number
_DEEP, _ABOVE = 1 << 16, 64  # bytes around the stack at the start that count as the stack


class Setting(NamedTuple):
    """A number that an instruction set."""

    whose: Whose
    name: str  # "sum", "kept[3]", "state.height"; of memory without a name its address
    type: str
    before: str  # "" where it is not known
    after: str
    data: bytes  # as it is now
    frame: int  # number of the call that a variable belongs to, 0 for what lasts
    variable: str  # the name without its part
    kind: Type | None = None
    address: int = 0  # of a variable in memory, 0 of one that is not


class Moment(NamedTuple):
    """One step, told."""

    step: Step
    place: CodePlace
    depth: int  # calls deep, 0 for the entry itself
    frame: int  # number of the call, from 1
    passes: tuple[int, ...]  # of each loop around it, the innermost last
    entered: tuple[int, ...]  # of each of these loops, how often it has been entered
    settings: tuple[Setting, ...]
    calls: str  # the function that it calls, "" for none
    comes_back: bool  # from that function, before the next step: it is none of these
    returns: bool
    taken: bool | None  # of a conditional branch; None for others


class Given(NamedTuple):
    """A parameter of the entry that points to a buffer."""

    name: str
    element: Type
    data: bytes


class Known(NamedTuple):
    """What is known of a program beside its code."""

    locals: Mapping[str, FunctionLocals]  # by function; without those whose code differs
    lasting: Sequence[tuple[Placed, bytes]]  # variables that last, and what they hold at first
    given: Sequence[Given]
    entry: str  # its symbol
    bits: int  # of an address
    data_mask: int = -1  # of addresses of data, where debug info counts them from elsewhere


def buffers_of(inputs: InputSet, types: Mapping[str, Type]) -> tuple[Given, ...]:
    """Return the parameters of an input set that point to buffers, those aliases aside."""
    out = []
    for one in inputs.arguments:
        kind = types.get(one.name)
        if one.kind == "buffer" and kind and kind.to:
            out.append(Given(one.name, kind.to, one.data))
    return tuple(out)


class _Region(NamedTuple):
    """A stretch of memory that has a name."""

    name: str
    low: int
    high: int
    type: Type  # of the whole for a variable, of an element for a buffer
    buffer: bool


class _Active(NamedTuple):
    """A variable where it can be found just now."""

    number: int  # among the function's variables
    local: Local
    ops: tuple[Op, ...]
    registers: frozenset[str]
    memory: bool


class _Frame:
    """One call that has not returned yet."""

    def __init__(self, number: int, function: str, depth: int, entry: dict[str, int]) -> None:
        self.number, self.function, self.depth = number, function, depth
        self.entry = entry  # registers at its start
        self.values: dict[int, bytes] = {}  # of its variables
        self.active: tuple[_Active, ...] | None = None
        self.passes: dict[int, int] = {}
        self.entered: dict[int, int] = {}
        self.inside: tuple[int, ...] = ()  # loops that the last step was in


class Walk:
    """Goes through a tape once, from its start."""

    def __init__(self, tape: Tape, code: CodeMap, known: Known, named: bool = True) -> None:
        """Prepare; without ``named`` nothing is told of variables and memory."""
        self.named = named
        self.tape, self.code, self.known = tape, code, known
        self.state = state_of(code.isa)
        self.names = [register.name for register in tape.registers]
        self.numbers = {name: number for number, name in enumerate(self.names)}
        self.memory = Memory()
        self.regions: list[_Region] = []
        self.registers = list(tape.first)
        self.frames: list[_Frame] = []
        self._made = 0
        self._defines: dict[tuple[str, tuple[str, ...]], frozenset[str]] = {}
        self._by_family: dict[str, list[str]] = {}
        family = architecture(code.isa).syntax.family
        for name in self.names:
            written = name if architecture(code.isa).syntax.register.fullmatch(name) else f"%{name}"
            self._by_family.setdefault(family(written)[0], []).append(name)
        self._cache: dict[tuple[str, int], tuple[_Active, ...]] = {}
        self._lists: dict[tuple[str, tuple[_Active, ...]], tuple[_Active, ...]] = {}
        self._given = list(known.given)
        self.stack = self.numbers.get(self.state.stack(known.bits), -1)
        for placed, data in known.lasting:
            low = (placed.offset & known.data_mask) + tape.base
            kind = placed.variable.type
            self.regions.append(_Region(placed.variable.name, low, low + kind.size, kind, False))
            if data:
                self.memory.write(low, data)

    # Steps.

    def moments(self) -> Iterator[Moment]:
        """Give the steps, told."""
        steps = self.tape.steps()
        held = next(steps, None)
        if held is None:
            return
        step, _ = held
        first = self.code.at(step.address)
        self._push(first.function if first else self.known.entry, self.tape.first)
        if first and self.named:
            self._look(first.offset, None, ())
        while True:
            # The registers after this step are those before the next: the list lives on.
            changed = [(change.register, change.after) for change in step.changes]
            following = next(steps, None)
            place = self.code.at(step.address)
            for register, value in changed:
                self.registers[register] = value
            then = following[0].address if following else -1
            if place:
                yield self._moment(step, place, then)
            if following is None:
                return
            step, _ = following

    def _moment(self, step: Step, place: CodePlace, then: int) -> Moment:
        frame = self.frames[-1]
        passes, entered = self._pass(frame, place)
        own, others = self._stores(step.accesses) if self.named else ([], [])
        after = self.code.at(then)
        calls, comes_back, returns = self._move(place, then, after, step)
        found: list[Setting] = []
        if after and self.named:
            found = self._look(after.offset, step, others)
        taken = None
        if place.kind in (b.BRANCH, b.SKIP) and then >= 0:
            taken = then != place.following
        return Moment(
            step, place, frame.depth, frame.number, passes, entered, (*own, *found), calls,
            comes_back, returns, taken,
        )  # fmt: skip

    def _pass(self, frame: _Frame, place: CodePlace) -> tuple[tuple[int, ...], tuple[int, ...]]:
        loop = place.begins
        if loop >= 0:
            again = loop in frame.inside
            frame.passes[loop] = frame.passes.get(loop, 0) + 1 if again else 1
            frame.entered[loop] = frame.entered.get(loop, 0) + (not again)
        frame.inside = place.loops
        passes, entered = frame.passes, frame.entered
        return (
            tuple(passes.get(one, 1) for one in place.loops),
            tuple(entered.get(one, 1) for one in place.loops),
        )

    def _move(
        self, place: CodePlace, then: int, after: CodePlace | None, step: Step
    ) -> tuple[str, bool, bool]:
        """Follow calls and returns; return (what is called, it is not stepped through, returns)."""
        started = self.code.starts.get(then, "")
        if place.kind == b.CALL:
            if started:
                self._push(started, self.registers)
                return self.code.title(started), False, False
            return place.target or "a function", True, False
        if place.kind == b.RETURN or (after and after.function != self.frames[-1].function):
            if started and place.kind != b.RETURN:  # a jump to another function
                depth = self.frames.pop().depth
                self._push(started, self.registers, depth)
                return self.code.title(started), False, False
            # A return that a condition may hold back goes on behind itself.
            if then == place.following and place.kind == b.RETURN and self._falls_through(step):
                return "", False, False
            self._pop_to(after)
            return "", False, True
        if after is None and then < 0:
            return "", False, place.kind == b.JUMP
        return "", False, False

    def _falls_through(self, step: Step) -> bool:
        return not any(change.register == self.stack for change in step.changes)

    def _pop_to(self, after: CodePlace | None) -> None:
        if len(self.frames) > 1:
            self.frames.pop()
        while after and len(self.frames) > 1 and self.frames[-1].function != after.function:
            self.frames.pop()

    def _push(self, function: str, registers: Sequence[int], depth: int = -1) -> None:
        self._made += 1
        deep = depth if depth >= 0 else (self.frames[-1].depth + 1 if self.frames else 0)
        entry = dict(zip(self.names, registers, strict=True))
        self.frames.append(_Frame(self._made, function, deep, entry))

    # Memory.

    def _stores(self, accesses: Sequence[Access]) -> tuple[list[Setting], list[Access]]:
        """Take over accesses; return what was set by name, and stores that have none yet."""
        out: list[Setting] = []
        others: list[Access] = []
        for access in accesses:
            region = self._region(access.address) if access.stored else None
            parts = self._parts(region, access) if region else []
            before = [self.memory.read(at, part.type.size) for at, part in parts]
            self.memory.write(access.address, access.data)
            if access.stored and not region:
                others.append(access)
            for (at, part), was in zip(parts, before, strict=True):
                data = self.memory.read(at, part.type.size)
                assert region
                if data is None:
                    continue
                out.append(Setting(
                    BUFFER, f"{region.name}{part.path}", part.type.name,
                    self._text(part.type, was) if was else "", self._text(part.type, data), data,
                    0, region.name, part.type,
                ))  # fmt: skip
        return out, others

    def _region(self, address: int) -> _Region | None:
        for region in self.regions:
            if region.low <= address < region.high:
                return region
        return None

    @staticmethod
    def _parts(region: _Region, access: Access) -> list[tuple[int, Part]]:
        """Return the numbers of a region that a store touches, with their addresses."""
        out = []
        at, end = access.address, min(access.address + len(access.data), region.high)
        size = max(region.type.size, 1)
        while at < end:
            index, inner = divmod(at - region.low, size) if region.buffer else (-1, at - region.low)
            found = part_over(region.type, inner)
            if found is None:
                at += 1
                continue
            first = at - inner + found.offset
            path = f"[{index}]{found.path}" if region.buffer else found.path
            out.append((first, found._replace(path=path)))
            at = first + found.type.size
        return out

    def _unnamed(self, access: Access) -> Setting:
        return Setting(
            MEMORY, self._address(access.address), f"{len(access.data)} bytes",
            _hex(access.before) if access.before else "", _hex(access.data), access.data, 0, "",
        )  # fmt: skip

    def _address(self, address: int) -> str:
        """Return an address in words: on the stack by how far it is from where that began."""
        start = self.tape.first[self.stack] if self.stack >= 0 else 0
        away = address - start
        return f"stack{away:+d}" if -_DEEP < away <= _ABOVE else f"{address:#x}"

    def _text(self, kind: Type, data: bytes) -> str:
        return number_text(kind, data, self.pointed)

    def pointed(self, address: int) -> str:
        """Return what an address points to, "" where it has no name."""
        for region in self.regions:
            if not region.low <= address <= region.high:
                continue
            away = address - region.low
            if not region.buffer:
                return f"&{region.name}" + (f" + {away} bytes" if away else "")
            index, inner = divmod(away, max(region.type.size, 1))
            return f"&{region.name}[{index}]" + (f" + {inner} bytes" if inner else "")
        return ""

    # Variables.

    def _look(self, offset: int, step: Step | None, stores: Sequence[Access]) -> list[Setting]:
        """Return what changed of the variables of the function that runs, at a place of it."""
        frame = self.frames[-1]
        active = self._active(frame.function, offset)
        known = frame.active
        frame.active = active
        out: list[Setting] = []
        own: list[tuple[int, int]] = []
        touched = self._touched(step) if step else frozenset()
        for one in active:
            stale = one.memory and (not step or step.accesses)
            fresh = active is not known and (known is None or one not in known)
            if fresh or stale or one.registers & touched:
                out += self._changed(frame, one, own, offset, step)
        out += [self._unnamed(store) for store in stores if not _covered(store, own)]
        return out

    def _touched(self, step: Step) -> frozenset[str]:
        """Return the registers that a step set, to whatever."""
        place = self.code.places.get(step.address)
        named = self._defined(place.instruction) if place else frozenset()
        return named | {self.names[change.register] for change in step.changes}

    def _defined(self, item: Instruction) -> frozenset[str]:
        key = item.mnemonic, item.operands
        if key not in self._defines:
            self._defines[key] = frozenset(self._families(item))
        return self._defines[key]

    def _families(self, item: Instruction) -> Iterator[str]:
        """Give the recorded registers that an instruction names and defines."""
        arch = architecture(self.code.isa)
        roles = arch.semantics.roles(item.mnemonic, item.operands)
        for operand, role in zip(item.operands, roles, strict=False):
            if role == USE or not arch.syntax.register.fullmatch(operand):
                continue
            family = arch.syntax.family(operand)[0]
            yield from self._by_family.get(family, ())

    def _changed(
        self,
        frame: _Frame,
        one: _Active,
        own: list[tuple[int, int]],
        offset: int,
        step: Step | None,
    ) -> list[Setting]:
        view = self._view(frame, offset)
        size = one.local.type.size or (
            self.known.bits // 8 if one.local.type.kind == "pointer" else 0
        )
        if not size:
            return []
        if one.local.type.kind == "pointer":
            size = self.known.bits // 8
        pieces = locate(one.ops, view)
        own += [(p.address, p.address + (p.size or size)) for p in pieces if p.how == "memory"]
        data = contents(pieces, size, view) if pieces else None
        before = frame.values.get(one.number)
        if data is None:
            return []
        if data == before:
            return self._stays(step, frame, one, pieces, data) if step else []
        frame.values[one.number] = data
        self._place_given(one.local, data, frame)
        return list(self._differences(frame, one.local, before, data, pieces))

    def _differences(
        self,
        frame: _Frame,
        local: Local,
        before: bytes | None,
        data: bytes,
        pieces: Sequence[Where],
    ) -> Iterator[Setting]:
        home = pieces[0].address if pieces and pieces[0].how == "memory" else 0
        prefix = f"{local.inlined}: " if local.inlined else ""
        for part in parts_of(local.type):
            size = part.type.size if part.type.kind != "pointer" else self.known.bits // 8
            now = data[part.offset : part.offset + size]
            was = before[part.offset : part.offset + size] if before is not None else None
            if now == was or len(now) < size or not size:
                continue
            yield Setting(
                VARIABLE, f"{prefix}{local.name}{part.path}", part.type.name,
                self._text(part.type, was) if was is not None else "",
                self._text(part.type, now), now, frame.number, f"{prefix}{local.name}", part.type,
                home and home + part.offset,
            )  # fmt: skip

    def _stays(
        self, step: Step, frame: _Frame, one: _Active, pieces: Sequence[Where], data: bytes
    ) -> list[Setting]:
        """Return a variable that was set to what it was, as far as the step shows that."""
        if one.local.type.kind in ("struct", "array") or not pieces:
            return []
        first = pieces[0]
        if first.how == "memory":
            stored = (a for a in step.accesses if a.stored)
            again = any(a.address <= first.address < a.address + len(a.data) for a in stored)
        else:
            again = bool(one.registers & self._touched(step)) and first.how == "register"
        kept = self._differences(frame, one.local, None, data, pieces) if again else ()
        return [setting._replace(before=setting.after) for setting in kept]

    def _place_given(self, local: Local, data: bytes, frame: _Frame) -> None:
        """Learn where a buffer lies, once the parameter that points to it is known."""
        if frame.number != 1 or not local.parameter or local.inlined:
            return
        for given in self._given:
            if given.name == local.name:
                low = int.from_bytes(data, "little")
                region = _Region(given.name, low, low + len(given.data), given.element, True)
                self.regions.append(region)
                self.memory.write(low, given.data)
                self._given.remove(given)
                return

    def _active(self, function: str, offset: int) -> tuple[_Active, ...]:
        key = function, offset
        if key not in self._cache:
            found = self.known.locals.get(function)
            active = tuple(_at(found, offset, self.state.debug_name)) if found else ()
            self._cache[key] = self._lists.setdefault((function, active), active)
        return self._cache[key]

    def _view(self, frame: _Frame, offset: int) -> View:
        found = self.known.locals.get(frame.function)

        def register(name: str) -> int | None:
            number = self.numbers.get(self.state.debug_name(name), -1)
            return self.registers[number] if number >= 0 else None

        def base(name: str) -> int | None:
            low = register(name)
            number = self.numbers.get(self.state.debug_name(name), -1)
            bits = self.tape.registers[number].bits
            if low is None or bits >= self.known.bits:
                return low
            return low | self.registers[number + 1] << bits

        def start() -> int | None:
            rules = [r for r in (found.rules if found else ()) if r.low <= offset]
            if not rules:
                return None
            held = base(rules[-1].register)
            return None if held is None else held + rules[-1].offset

        def at_entry(name: str) -> int | None:
            return frame.entry.get(self.state.debug_name(name))

        frame_base = found.frame_base if found else ()
        word = self.known.bits // 8
        return View(register, base, self.memory.read, start, frame_base, at_entry, word)

    def number_of(self, value: int, bits: int) -> str:
        """Return what a register holds in words: what an address points to, else its bits."""
        if bits >= self.known.bits and value >= _LOWEST_ADDRESS:
            named = self.pointed(value) or self._address(value)
            return named if named[:2] != "0x" else f"{value:#x}"
        return f"{value:#x}"

    def visible(self) -> list[tuple[str, str, str]]:
        """Return (name, type, value) of what is known of the variables of the function that runs.

        Whole numbers and pointers only; of arrays and structs the first parts.
        """
        if not self.frames:
            return []
        frame = self.frames[-1]
        out = []
        for one in frame.active or ():
            data = frame.values.get(one.number)
            if data is None:
                continue
            prefix = f"{one.local.inlined}: " if one.local.inlined else ""
            for part in list(parts_of(one.local.type))[:8]:
                size = part.type.size if part.type.kind != "pointer" else self.known.bits // 8
                piece = data[part.offset : part.offset + size]
                if len(piece) == size and size:
                    name = f"{prefix}{one.local.name}{part.path}"
                    out.append((name, part.type.name, self._text(part.type, piece)))
        return out


def _covered(access: Access, own: Sequence[tuple[int, int]]) -> bool:
    return any(low <= access.address < high for low, high in own)


def _hex(data: bytes) -> str:
    if len(data) <= 8:
        return f"{int.from_bytes(data, 'little'):#x}"
    return data.hex(" ", 8)


def _at(found: FunctionLocals, offset: int, recorded: Callable[[str], str]) -> Iterator[_Active]:
    """Give the variables that can be found at a place of a function."""
    for number, local in enumerate(found.variables):
        span = next((s for s in local.spans if s.low <= offset < s.high), None)
        if span is None:
            continue
        registers, memory = _needs(span.ops)
        own = frozenset(map(recorded, registers))
        yield _Active(number, local, span.ops, own, memory)


def _needs(ops: Sequence[Op]) -> tuple[frozenset[str], bool]:
    """Return the registers that an expression names, and whether it reads memory."""
    names = {op.register for op in ops if op.register}
    computed = bool(ops) and ops[-1].name == "stack_value"
    memory = any(op.name.startswith(("fbreg", "deref", "call_frame")) for op in ops)
    memory = memory or (not computed and any(op.name == "breg" for op in ops))
    return frozenset(names), memory
