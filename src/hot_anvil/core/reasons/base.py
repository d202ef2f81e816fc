"""What rules over a function's two sides work with, and the reasons that they give.

A rule looks from one side (``a``) to the other (``b``) for something that
``b`` has gained. It runs in both directions, so one rule finds a loop that was
vectorised and one that no longer is; the reason says it as left to right.
"""

import re
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from hot_anvil.core.flow import Body, Loop
from hot_anvil.core.isa import isa_of
from hot_anvil.core.linemap import LineMap, Place
from hot_anvil.core.meaning import base as b
from hot_anvil.core.meaning.base import helper
from hot_anvil.core.phases import phases
from hot_anvil.core.reordering import effects_of

# How sure a reason is: the instructions say it; they make it likely; only the compiler says it.
CERTAIN, LIKELY, REMARKED = "certain", "likely", "remark only"


class Reason(NamedTuple):
    """A named explanation of a difference, with its evidence."""

    kind: str
    text: str  # one sentence, without a full stop
    confidence: str
    function: str  # symbol
    left: tuple[int, ...]  # the instructions that show it, by place in the function
    right: tuple[int, ...]
    places: frozenset[Place]  # source lines that it explains
    remarks: tuple[str, ...] = ()  # what the compilers say to the same end
    weight: int = 0  # instructions by which these lines differ


_PROBE = re.compile(r"(?:lock )?or[lq] \$0,")  # touches a page of the stack, changes nothing


class Side:
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
        self.deeds = body.deeds
        self.places = [
            lines.place(i.file, i.line) if lines else Place(i.file, i.line) for i in body.items
        ]

    def __len__(self) -> int:
        return len(self.deeds)

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
        for done in self.deeds:
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
    def phases(self) -> tuple[str, ...]:
        """PROLOGUE, EPILOGUE or "" for each instruction."""
        return phases(self.body.items, self.body.isa)

    @cached_property
    def saves(self) -> frozenset[int]:
        """Instructions that build or remove the frame, wherever they stand."""
        isa = isa_of(self.body.isa)
        out = set()
        for k, text in enumerate(self.body.texts):
            if self.deeds[k].kind in (b.PUSH, b.POP):
                out.add(k)
            elif isa.setup.match(text) or (
                isa.teardown.match(text) and not isa.returns.match(text)
            ):
                if self.deeds[k].kind not in (b.LANDING, b.NOTHING, b.CONSTANT):
                    out.add(k)
        return frozenset(out)

    @cached_property
    def slots(self) -> frozenset[int]:
        """Instructions that load or store a value in a slot of the stack frame."""
        body = self.body
        return frozenset(
            k
            for k, done in enumerate(self.deeds)
            if (done.loads or done.stores) and k not in self.saves and body.on_stack(k)
            and not _PROBE.match(body.texts[k])
        )  # fmt: skip

    @cached_property
    def calls(self) -> tuple[tuple[int, str], ...]:
        """Calls and tail calls of named functions, without the compiler's own arithmetic."""
        return tuple(
            (k, done.target)
            for k, done in enumerate(self.deeds)
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
            k for k in among if self.deeds[k].loads and not self._stack(k) and not self._constant(k)
        ]

    def stores(self, among: Iterable[int]) -> list[int]:
        """Return those that store to memory other than stack slots."""
        return [k for k in among if self.deeds[k].stores and not self._stack(k)]

    def _constant(self, k: int) -> bool:
        memory = self.deeds[k].memory
        return memory is not None and memory.symbol.startswith((".L", "$L"))

    def _stack(self, k: int) -> bool:
        return k in self.slots or k in self.saves

    @cached_property
    def _own(self) -> dict[int, list[int]]:
        out: dict[int, list[int]] = {}
        for k, loop in enumerate(self.body.loop_of):
            out.setdefault(loop, []).append(k)
        return out

    def inside(self, loop: int) -> list[int]:
        """Return all instructions of a loop, inner loops included."""
        blocks = self.loops[loop].blocks
        return [k for k, block in enumerate(self.body.block_of) if block in blocks]

    def own(self, loop: int) -> list[int]:
        """Return the instructions of a loop that are in no inner one."""
        return self._own.get(loop, [])

    def packed(self, among: Iterable[int]) -> list[int]:
        """Return packed calculations: not mere moves, shuffles or clearing."""
        wanted = b.ARITHMETIC | {b.COMPARE, b.CONVERT, b.EXTEND, b.SELECT}
        return [k for k in among if self.deeds[k].packed and self.kinds[k] in wanted]

    def written(self, k: int) -> frozenset[str]:
        """Return the register families that an instruction writes."""
        item = self.body.items[k]
        return effects_of(item.mnemonic, item.operands, self.body.isa)[1]

    def read(self, k: int) -> frozenset[str]:
        """Return the register families that an instruction reads."""
        item = self.body.items[k]
        return effects_of(item.mnemonic, item.operands, self.body.isa)[0]


class View:
    """One function seen from side ``a`` to side ``b``."""

    def __init__(
        self,
        function: str,
        a: Side,
        c: Side,
        forward: bool,
        world: "World",
        states: Mapping[Place, str],
    ) -> None:
        self.function = function
        self.a = a
        self.b = c
        self.forward = forward
        self.world = world
        self.states = states

    def reason(
        self,
        kind: str,
        texts: tuple[str, str],
        a: Iterable[int] = (),
        c: Iterable[int] = (),
        places: Iterable[Place] | None = None,
        confidence: str = CERTAIN,
    ) -> Reason:
        """Return a reason; ``texts`` say it as gained and as lost.

        Without ``places`` it explains the lines of its evidence.
        """
        a, c = tuple(sorted(set(a))), tuple(sorted(set(c)))
        if places is None:
            places = {self.a.places[k] for k in a} | {self.b.places[k] for k in c}
        left, right = (a, c) if self.forward else (c, a)
        text = texts[0 if self.forward else 1]
        return Reason(kind, text, confidence, self.function, left, right, frozenset(places))

    @cached_property
    def lines(self) -> list[Place]:
        """Source lines with code on either side, in order."""
        return sorted(
            {*self.a.at, *self.b.at}, key=lambda place: (place.file, place.line, place.old)
        )

    @cached_property
    def loop_pairs(self) -> dict[int, list[int]]:
        """Loop of ``a`` -> loops of ``b`` that come of it, the one that does the most first."""
        return self.world.loop_pairs(self)

    def differs(self, place: Place) -> bool:
        """Tell whether a line is more than renamed or reordered."""
        return self.states.get(place, "changed") not in ("same", "renamed", "reordered")


class World:
    """What rules may know of the two codes beyond one function."""

    def __init__(
        self,
        titles: Mapping[str, str],
        homes: Mapping[str, frozenset[Place]],
        other_functions: bool = False,
    ) -> None:
        self.titles = titles
        self.homes = homes  # function -> source lines of its own code, on either side
        self.other_functions = other_functions  # two functions of different names are compared

    def title(self, name: str) -> str:
        """Return a function's name as the source writes it."""
        return self.titles.get(name, self.titles.get(plain_name(name), plain_name(name)))

    def loop_pairs(self, view: View) -> dict[int, list[int]]:
        """Match loops by the source lines that they alone hold; nested ones by depth."""
        a, c = view.a, view.b
        lines = [[_loop_lines(side, k) for k in range(len(side.loops))] for side in (a, c)]
        out: dict[int, list[int]] = {k: [] for k in range(len(a.loops))}
        for j, mine in enumerate(lines[1]):
            scores = [
                (c.loops[j].depth == a.loops[i].depth, _overlap(mine, other), -i)
                for i, other in enumerate(lines[0])
                if _overlap(mine, other)
            ]
            if scores:
                out[-max(scores)[2]].append(j)
        self._add_near(lines, (a, c), out)
        for found in out.values():
            found.sort(key=lambda j: tuple(-n for n in _work(c, j)))
        return out

    def _add_near(
        self,
        lines: Sequence[Sequence[Counter[Place]]],
        sides: tuple[Side, Side],
        out: dict[int, list[int]],
    ) -> None:
        """Match what is left by nearness: compilers give a loop's code to one line or the next."""
        taken = {j for found in out.values() for j in found}
        for i in [i for i, found in out.items() if not found]:
            for j, mine in enumerate(lines[1]):
                depths = [side.loops[k].depth for side, k in zip(sides, (i, j), strict=True)]
                if j not in taken and depths[0] == depths[1] and _beside(lines[0][i], mine):
                    out[i].append(j)
                    taken.add(j)


def _beside(one: Iterable[Place], other: Iterable[Place]) -> bool:
    return any(p.file == q.file and abs(p.line - q.line) <= 2 for p in one for q in other)


Rule = Callable[[View], Iterator[Reason]]


def plain_name(name: str) -> str:
    """Return a function's symbol without what compilers add: ``f.constprop.0`` is ``f``."""
    if name.startswith("__") and name.endswith("_chk") and not name.startswith("__stack"):
        return name[2:-4]  # the checked form of a library function
    head, dot, rest = name.partition(".")
    return (
        head
        if dot and head and rest.startswith(("constprop", "isra", "part", "cold", "llvm"))
        else name
    )


def _loop_lines(side: Side, loop: int) -> Counter[Place]:
    return Counter(side.places[k] for k in side.own(loop) if side.places[k].line > 0)


def _overlap(one: Counter[Place], other: Counter[Place]) -> float:
    """Return the share of lines that two loops have in common (Jaccard's index)."""
    union = one.keys() | other.keys()
    return len(one.keys() & other.keys()) / len(union) if union else 0.0


def _work(side: Side, loop: int) -> tuple[int, int]:
    """Return how much a loop does in a pass: packed calculations count first."""
    own = side.own(loop)
    vectors = sum(side.deeds[k].width > 0 for k in own)
    return vectors, len(own)


def lines_text(places: Iterable[Place]) -> str:
    """Return "line 4" or "lines 4-6" for source lines."""
    known = sorted({place.old or place.line for place in places if place.line > 0})
    if not known:
        return "code without a line"
    return f"line {known[0]}" if len(known) == 1 else f"lines {known[0]}-{known[-1]}"
