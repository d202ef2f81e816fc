"""One side of a function, as rules see it: kinds of instructions, lines, loops, stack slots."""

from collections.abc import Collection, Iterable, Sequence
from functools import cached_property, lru_cache

from hot_anvil.core.arch import architecture
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.helpers import helper
from hot_anvil.core.code.places import LineMap, Place
from hot_anvil.core.model.control_flow import Body
from hot_anvil.core.model.cycles import Loop
from hot_anvil.core.model.registers import read_and_written


@lru_cache(maxsize=1 << 16)
def _builds_frame(text: str, isa_name: str) -> bool:
    """Tell whether a canonical instruction builds or removes a frame, and does not return."""
    arch = architecture(isa_name)
    frame = arch.abi.frame
    return bool(frame.setup.match(text)) or bool(
        frame.teardown.match(text) and not arch.syntax.returns.match(text)
    )


class FunctionModel:
    """One side of a function, as rules see it."""

    def __init__(
        self,
        body: Body,
        lines: LineMap | None,
        flags: Sequence[str],
        names: Collection[str] = (),
    ) -> None:
        self.body = body
        self.names = names  # functions that the code has
        self.flags = flags
        self.effects = body.effects
        self.line_map = lines

    def __len__(self) -> int:
        return len(self.effects)

    @cached_property
    def places(self) -> list[Place]:
        """The source line of each instruction."""
        lines = self.line_map
        return [
            lines.place(i.file, i.line) if lines else Place(i.file, i.line) for i in self.body.items
        ]

    @cached_property
    def at(self) -> dict[Place, list[int]]:
        """Source line -> its instructions."""
        out: dict[Place, list[int]] = {}
        for k, place in enumerate(self.places):
            out.setdefault(place, []).append(k)
        return out

    @cached_property
    def kinds(self) -> list[str]:
        """The kind of each instruction; a call of the compiler's own arithmetic is that."""
        out = []
        for done in self.effects:
            known = helper(done.target) if done.kind == b.CALL and done.target else None
            out.append(known[0] if known else done.kind)
        return out

    @cached_property
    def by_kind(self) -> dict[str, list[int]]:
        """Kind -> the instructions of it, in order."""
        out: dict[str, list[int]] = {}
        for k, kind in enumerate(self.kinds):
            out.setdefault(kind, []).append(k)
        return out

    @cached_property
    def saves(self) -> frozenset[int]:
        """Instructions that build or remove the frame, wherever they stand."""
        isa = self.body.isa
        other = (b.LANDING, b.NOTHING, b.CONSTANT)
        return frozenset(
            k
            for k, text in enumerate(self.body.texts)
            if (kind := self.effects[k].kind) in (b.PUSH, b.POP)
            or (_builds_frame(text, isa) and kind not in other)
        )

    @cached_property
    def slots(self) -> frozenset[int]:
        """Instructions that load or store a value in a slot of the stack frame."""
        body, probe = self.body, self.body.arch.abi.frame.probe
        return frozenset(
            k
            for k, done in enumerate(self.effects)
            if (done.loads or done.stores) and k not in self.saves and body.on_stack(k)
            and not probe.match(body.texts[k])
        )  # fmt: skip

    @cached_property
    def calls(self) -> tuple[tuple[int, str], ...]:
        """Calls and tail calls of named functions, without the compiler's own arithmetic."""
        return tuple(
            (k, done.target)
            for k, done in enumerate(self.effects)
            if done.target
            and ((done.kind == b.CALL and self.kinds[k] == b.CALL) or self.body.leaves(k))
        )

    @property
    def loops(self) -> tuple[Loop, ...]:
        """The natural loops, outer ones first."""
        return self.body.loops

    def of(self, kinds: Collection[str], among: Iterable[int] | None = None) -> list[int]:
        """Return the instructions of some kinds, of all or among some."""
        if among is None:
            found = [k for kind in kinds for k in self.by_kind.get(kind, ())]
            return sorted(found) if len(kinds) > 1 else found
        own = self.kinds
        return [k for k in among if own[k] in kinds]

    def loads(self, among: Iterable[int]) -> list[int]:
        """Return those that load from memory other than stack slots and constants."""
        return [
            k
            for k in among
            if self.effects[k].loads and not self.on_stack(k) and not self.loads_constant(k)
        ]

    def stores(self, among: Iterable[int]) -> list[int]:
        """Return those that store to memory other than stack slots."""
        return [k for k in among if self.effects[k].stores and not self.on_stack(k)]

    def loads_constant(self, k: int) -> bool:
        """Tell whether an instruction names a constant that the compiler put in memory."""
        memory = self.effects[k].memory
        return memory is not None and memory.symbol.startswith((".L", "$L"))

    def on_stack(self, k: int) -> bool:
        """Tell whether an instruction uses the stack frame: a slot, or to save a register."""
        return k in self.slots or k in self.saves

    @cached_property
    def _own(self) -> dict[int, list[int]]:
        out: dict[int, list[int]] = {}
        for k, loop in enumerate(self.body.loop_of):
            out.setdefault(loop, []).append(k)
        return out

    def inside(self, loop: int) -> list[int]:
        """Return all instructions of a loop, inner loops included."""
        bounds = self.body.bounds
        blocks = sorted(self.loops[loop].blocks)
        return [k for block in blocks for k in range(bounds[block], bounds[block + 1])]

    def own(self, loop: int) -> list[int]:
        """Return the instructions of a loop that are in no inner one."""
        return self._own.get(loop, [])

    def each_pass(self, loop: int) -> list[int]:
        """Return the instructions of a loop, inner ones aside, that each whole pass executes."""
        blocks = self.body.every_pass(self.loops[loop])
        return [k for k in self.own(loop) if self.body.block_of[k] in blocks]

    def on(self, places: Iterable[Place]) -> list[int]:
        """Return the instructions of some source lines."""
        return [k for place in places for k in self.at.get(place, ())]

    def lines(self, among: Iterable[int]) -> set[Place]:
        """Return the source lines of some instructions, code without a line aside."""
        return {self.places[k] for k in among if self.places[k].line > 0}

    def backs(self, loop: int) -> list[int]:
        """Return the branches that go back to a loop's start, else those that keep it going.

        A loop entered at its test falls through to its start.
        """
        bounds = self.body.bounds
        latches = sorted(self.loops[loop].latches)
        ends = [bounds[block + 1] - 1 for block in latches]  # branches end their blocks
        found = [k for k in ends if self.kinds[k] in (b.BRANCH, b.JUMP)]
        return found or [k for k in self.own(loop) if self.kinds[k] in (b.BRANCH, b.JUMP)]

    @cached_property
    def is_scalar(self) -> bool:
        """Whether nothing works on a whole vector."""
        return all(done.lanes == 1 for done in self.effects)

    def packed(self, among: Iterable[int]) -> list[int]:
        """Return packed calculations: not mere moves, shuffles or clearing."""
        wanted = b.ARITHMETIC | {b.COMPARE, b.CONVERT, b.EXTEND, b.SELECT}
        return [k for k in among if self.effects[k].packed and self.kinds[k] in wanted]

    def written(self, k: int) -> frozenset[str]:
        """Return the register families that an instruction writes."""
        item = self.body.items[k]
        return read_and_written(item.mnemonic, item.operands, self.body.isa)[1]

    def read(self, k: int) -> frozenset[str]:
        """Return the register families that an instruction reads."""
        item = self.body.items[k]
        return read_and_written(item.mnemonic, item.operands, self.body.isa)[0]
