"""What lies at each address of the code under study: instruction, source line, loop."""

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from itertools import pairwise
from typing import NamedTuple

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.semantics import Kind
from hot_anvil.core.code.records import Code, Instruction
from hot_anvil.core.model.control_flow import Body, bodies
from hot_anvil.core.model.cycles import Loop
from hot_anvil.core.trace.control import deciders

_MOST_GAP = 64  # bytes between two functions that one stretch may span


class LoopHere(NamedTuple):
    """A loop of a function."""

    line: int  # where it begins, in its function's file
    file: str
    depth: int  # 1 for an outermost one
    blocks: int  # how many
    header: int  # its first block


class CodePlace(NamedTuple):
    """One instruction where it lies."""

    function: str  # symbol of the function it belongs to
    offset: int  # bytes from the function's start
    instruction: Instruction
    kind: Kind
    target: str  # what a call or branch names
    file: str  # of the source line, "" where there is none
    line: int
    loops: tuple[int, ...]  # numbers of the loops around it, the innermost last
    begins: int  # number of the loop whose first block begins here, -1 for none
    block: int
    following: int  # address of the instruction behind it

    @property
    def leaves(self) -> bool:
        """Whether it may go to another function."""
        return self.kind in (b.CALL, b.RETURN, b.JUMP, b.BRANCH)


class CodeMap(NamedTuple):
    """All code under study of one program."""

    places: Mapping[int, CodePlace]
    loops: Mapping[str, tuple[LoopHere, ...]]  # by function
    starts: Mapping[int, str]  # address of the first instruction -> function
    titles: Mapping[str, str]  # function -> its name as the source writes it
    deciders: Mapping[str, Mapping[int, frozenset[int]]]  # by function: core/trace/control.py
    fillers: Mapping[int, int]  # address between two instructions -> the one before it
    isa: str

    def at(self, address: int) -> CodePlace | None:
        """Return what lies at an address; what only fills space there counts as such."""
        found = self.places.get(address)
        if found or address not in self.fillers:
            return found
        before = self.places[self.fillers[address]]
        item = before.instruction
        filler = Instruction("(filler)", (), item.file, item.line, item.text_line, False, address)
        return before._replace(
            offset=before.offset + address - item.address, instruction=filler, kind=b.NOTHING,
            target="", begins=-1, following=-1,
        )  # fmt: skip

    def title(self, function: str) -> str:
        """Return a function's name as the source writes it."""
        return self.titles.get(function, function)

    def ranges(self) -> list[tuple[int, int]]:
        """Return the stretches of addresses that the code covers."""
        out: list[tuple[int, int]] = []
        for address, place in sorted(self.places.items()):
            end = address + max(place.instruction.size, 1)
            if out and address - out[-1][1] <= _MOST_GAP:
                out[-1] = out[-1][0], max(end, out[-1][1])
            else:
                out.append((address, end))
        return out


LineOf = Callable[[int], tuple[str, int]]


def map_code(code: Code, own: Collection[str], line_of: LineOf) -> CodeMap:
    """Return what lies where of the functions ``own`` and their cold parts, in a linked program.

    ``line_of`` finds the source line of an address.
    """
    functions = [f for f in code.functions if f.owner in own and f.instructions]
    places: dict[int, CodePlace] = {}
    loops: dict[str, tuple[LoopHere, ...]] = {}
    decided: dict[str, Mapping[int, frozenset[int]]] = {}
    starts = {f.instructions[0].address: f.owner for f in functions if not f.parent}
    first_of = {function: address for address, function in starts.items()}
    for owner, body in bodies(functions, code.isa).items():
        first = first_of.get(owner, body.items[0].address)
        lines = [line_of(item.address) for item in body.items]
        around = _loops_around(body.loops, body.block_of)
        headers = {body.leaders[loop.header]: n for n, loop in enumerate(body.loops)}
        loops[owner] = tuple(_loop(body, loop, lines) for loop in body.loops)
        decided[owner] = deciders(body)
        for number, item in enumerate(body.items):
            after = body.items[number + 1].address if number + 1 < len(body.items) else -1
            done = body.effects[number]
            places[item.address] = CodePlace(
                owner, item.address - first, item, done.kind, done.target, *lines[number],
                around[number], headers.get(number, -1), body.block_of[number], after,
            )  # fmt: skip
    titles = {owner: code.title(owner) for owner in loops}
    return CodeMap(places, loops, starts, titles, decided, _fillers(places), code.isa)


def _fillers(places: Mapping[int, CodePlace]) -> dict[int, int]:
    out = {}
    for (address, place), (after, behind) in pairwise(sorted(places.items())):
        end = address + max(place.instruction.size, 1)
        if place.function == behind.function and after - end <= _MOST_GAP:
            out.update(dict.fromkeys(range(end, after), address))
    return out


def _loops_around(loops: Sequence[Loop], block_of: Iterable[int]) -> list[tuple[int, ...]]:
    return [
        tuple(number for number, loop in enumerate(loops) if block in loop.blocks)
        for block in block_of
    ]


def _loop(body: Body, loop: Loop, lines: Sequence[tuple[str, int]]) -> LoopHere:
    file, line = lines[body.leaders[loop.header]]
    return LoopHere(line, file, loop.depth, len(loop.blocks), loop.header)
