"""Control flow of one function, from the code itself: blocks, edges, loops."""

import re
from collections.abc import Collection, Iterable, Sequence
from functools import cached_property
from itertools import pairwise
from zlib import crc32

from hot_anvil.core.arch import architecture
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.records import Architecture
from hot_anvil.core.arch.semantics import Effect
from hot_anvil.core.arch.spelling import canonical
from hot_anvil.core.code.records import Function, join_parts, parts_by_owner
from hot_anvil.core.model.cycles import Loop, find_loops
from hot_anvil.core.model.symbols import NEVER_RETURNS

_CONSTANT = re.compile(r"(?:\.L|\$L|CSWTCH\.)[\w.$]+")
_INSIDE = re.compile(r"[.$]|\d+[bf]?$")  # labels, which no other function has
_OVER = re.compile(r"\.\+[24]")  # a branch over the one jump behind it, counted in bytes
_PATHS = 60  # blocks of a loop up to which the paths through it are looked at


class Body:
    """One function with its cold parts, as one run of instructions; analysed when asked."""

    def __init__(
        self, owner: str, parts: Sequence[Function], isa: str, never_return: Collection[str] = ()
    ) -> None:
        """Join the parts; ``never_return``: functions that the rest of the code shows to be so."""
        self.owner = owner
        self.isa = isa
        self.never_return = never_return
        self.items = join_parts(parts)
        self.labels: dict[str, int] = {}
        self.constants = {k: v for part in parts for k, v in part.constants.items() if v}
        self.sections = tuple(dict.fromkeys(part.section for part in parts if part.section))
        self.begins = next((p.begins for p in parts if not p.parent and p.begins[1]), ("", 0))
        start = 0
        self.starts = []
        self.data_bytes: dict[int, int] = {}  # instruction -> bytes of data before it
        for part in parts:
            self.starts.append(start)
            for datum in part.data:
                place = start + datum.place
                self.data_bytes[place] = self.data_bytes.get(place, 0) + max(datum.size, 0)
            self.labels[part.name] = start
            for label, at in part.labels.items():
                self.labels[label] = start + at
            start += len(part.instructions)

    @property
    def arch(self) -> Architecture:
        """Its instruction set."""
        return architecture(self.isa)

    @cached_property
    def texts(self) -> list[str]:
        """The instructions in the one spelling used for comparing, constants by their data."""
        isa = self.isa
        texts = [canonical(i.mnemonic, i.operands, isa) for i in self.items]
        if not self.constants:
            return texts
        return [_CONSTANT.sub(self._data_for, text) for text in texts]

    def _data_for(self, label: re.Match[str]) -> str:
        """Return what stands for a label when comparing: its data, else the label."""
        content = self.constants.get(label[0])
        return f"{{{crc32(content.encode()):08x}}}" if content else label[0]

    @cached_property
    def effects(self) -> list[Effect]:
        """What each instruction does."""
        effect = self.arch.semantics.effect
        return [effect(i.mnemonic, i.operands) for i in self.items]

    @cached_property
    def goals(self) -> list[int]:
        """For each instruction the place it may go to, -1 for none inside this function."""
        labels, effects = self.labels, self.effects
        out = []
        for place, done in enumerate(effects):
            goes = done.kind in (b.BRANCH, b.JUMP) and done.target
            goal = labels.get(done.target, -1) if goes else -1
            if goal >= len(effects):
                goal = -1  # a way that never comes back ends without an instruction
            if goal < 0 and goes and _OVER.fullmatch(done.target):
                over = place + 1 < len(effects) and effects[place + 1].kind == b.JUMP
                goal = place + 2 if over and place + 2 < len(effects) else -1
            out.append(goal)
        return out

    @cached_property
    def leaders(self) -> list[int]:
        """Places at which blocks begin, in order."""
        begins = {0, *self.starts}
        begins.update(goal for goal in self.goals if goal >= 0)
        begins.update(at for label, at in self.labels.items() if at < len(self.items))
        ends = (b.BRANCH, b.JUMP, b.RETURN, b.TRAP)
        for place, done in enumerate(self.effects):
            if done.kind in ends or self._is_last(done):
                begins.add(place + 1)
            elif done.kind == b.SKIP:
                begins.update((place + 1, place + 2))
        return sorted(place for place in begins if place < len(self.items))

    @cached_property
    def bounds(self) -> list[int]:
        """Where each block begins, and the end of the last one."""
        return [*self.leaders, len(self.items)]

    @cached_property
    def block_of(self) -> list[int]:
        """For each instruction the number of its block."""
        out = [0] * len(self.items)
        for number, (first, end) in enumerate(pairwise(self.bounds)):
            out[first:end] = [number] * (end - first)
        return out

    @cached_property
    def next_blocks(self) -> list[tuple[int, ...]]:
        """For each block those that may follow it."""
        table = self.table_goals
        out = []
        for _, end in pairwise(self.bounds):
            last = end - 1
            done = self.effects[last]
            following: list[int] = []
            if self.goals[last] >= 0:
                following.append(self.block_of[self.goals[last]])
            if done.kind == b.JUMP and done.indirect:
                following += table
            stops = done.kind in (b.RETURN, b.TRAP, b.JUMP) and not done.condition
            stops = stops or self._is_last(done)
            if not stops and end < len(self.items):
                following.append(self.block_of[end])
            if done.kind == b.SKIP and end + 1 < len(self.items):
                following.append(self.block_of[end + 1])
            out.append(tuple(dict.fromkeys(following)))
        return out

    @cached_property
    def table_goals(self) -> list[int]:
        """Blocks that an indirect jump may go to: labels that no branch names."""
        named = {done.target for done in self.effects if done.target}
        return [
            self.block_of[at]
            for label, at in self.labels.items()
            if label not in named and label.startswith((".L", "$L")) and at < len(self.items)
        ]

    @cached_property
    def loops(self) -> tuple[Loop, ...]:
        """The natural loops, outer ones before those inside them."""
        if not any(0 <= goal <= place for place, goal in enumerate(self.goals)):
            return ()
        return find_loops(self.next_blocks)

    def every_pass(self, loop: Loop) -> frozenset[int]:
        """Return the blocks that each whole pass of a loop goes through."""
        if len(loop.blocks) > _PATHS:
            return loop.blocks
        return frozenset(block for block in loop.blocks if not self._avoidable(loop, block))

    def _avoidable(self, loop: Loop, block: int) -> bool:
        """Tell whether a pass can get from the loop's start to its end without a block."""
        if block == loop.header:
            return False
        seen = {loop.header}
        todo = [loop.header]
        while todo:
            at = todo.pop()
            if at in loop.latches:
                return True
            for goal in self.next_blocks[at]:
                if goal in loop.blocks and goal not in seen and goal != block:
                    seen.add(goal)
                    todo.append(goal)
        return False

    @cached_property
    def loop_of(self) -> list[int]:
        """For each instruction the number of its innermost loop, -1 for none."""
        of_block = [-1] * len(self.leaders)
        for number, loop in enumerate(self.loops):  # inner ones come later
            for block in loop.blocks:
                of_block[block] = number
        return [of_block[block] for block in self.block_of]

    @cached_property
    def frame_registers(self) -> frozenset[str]:
        """Families of registers that point into the stack frame."""
        syntax, abi = self.arch.syntax, self.arch.abi
        for text in self.texts:
            if abi.frame_setup.match(text):
                found = syntax.register.findall(text.partition(" ")[2])
                known = {syntax.family(name)[0] for name in found}
                return abi.stack | (known & abi.frames)
        return abi.stack

    def on_stack(self, place: int) -> bool:
        """Tell whether an instruction uses a fixed slot of the stack frame."""
        memory = self.effects[place].memory
        return memory is not None and memory.base in self.frame_registers and not memory.indexed

    def leaves(self, place: int) -> bool:
        """Tell whether an instruction jumps out of the function, as a tail call does."""
        done = self.effects[place]
        return (
            done.kind == b.JUMP and bool(done.target) and self.goals[place] < 0
            and not _INSIDE.match(done.target)
        )  # fmt: skip

    def _is_last(self, done: Effect) -> bool:
        """Tell whether a call never comes back."""
        if done.kind != b.CALL or done.condition:
            return False
        return done.target in self.never_return or bool(NEVER_RETURNS.fullmatch(done.target))


def bodies(functions: Sequence[Function], isa: str) -> dict[str, Body]:
    """Return the functions by their owner's symbol, cold parts joined to it."""
    last = ending_calls(functions, isa)
    return {owner: Body(owner, own, isa, last) for owner, own in parts_by_owner(functions).items()}


def ending_calls(functions: Iterable[Function], isa: str) -> frozenset[str]:
    """Return what is called where a function's code ends: it cannot come back there."""
    effect = architecture(isa).semantics.effect
    ends = (f.instructions[-1] for f in functions if f.instructions)
    done = (effect(item.mnemonic, item.operands) for item in ends if not item.inline_asm)
    return frozenset(
        one.target for one in done if one.kind == b.CALL and one.target and not one.condition
    )
