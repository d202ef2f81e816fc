"""What rules over a function's two sides work with, and the reasons that they give.

A rule looks from one side (``left``) to the other (``right``) for something that
``right`` has gained. It runs in both directions, so one rule finds a loop that was
vectorised and one that no longer is: then the sides of its view are swapped, and
the reason still says it from the left of the comparison to its right.
"""

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from hot_anvil.core.code.places import Place
from hot_anvil.core.diff.records import CERTAIN, Confidence, Reason
from hot_anvil.core.evaluate.function import Sameness
from hot_anvil.core.facts.loops import shape_facts
from hot_anvil.core.facts.records import Fact
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.model.symbols import plain_name


class View:
    """One function seen from ``left`` to ``right``."""

    def __init__(
        self,
        function: str,
        left: FunctionModel,
        right: FunctionModel,
        forward: bool,
        context: "RuleContext",
        states: Mapping[Place, str],
        sameness: Sameness,
    ) -> None:
        self.function = function
        self.left = left
        self.right = right
        self.forward = forward
        self.context = context
        self.states = states
        self.sameness = sameness  # of the comparison's own left and right

    def turned(self) -> "View":
        """Return the same function seen the other way."""
        turned = View(
            self.function, self.right, self.left, not self.forward, self.context, self.states,
            self.sameness,
        )  # fmt: skip
        turned.shapes = self.shapes[::-1]
        return turned

    def same(self, mine: Iterable[int], theirs: Iterable[int]) -> bool:
        """Tell whether code of ``left`` and of ``right`` was found to compute the same."""
        return self.sameness.same(*((mine, theirs) if self.forward else (theirs, mine)))

    def same_line(self, place: Place) -> bool:
        """Tell whether a line computes the same: its source is the same, or its code was tried."""
        if place not in self.context.edited and not self.context.other_functions:
            return True
        return self.same(self.left.at.get(place, ()), self.right.at.get(place, ()))

    def reason(
        self,
        kind: str,
        texts: tuple[str, str],
        lost: Iterable[int] = (),
        gained: Iterable[int] = (),
        places: Iterable[Place] | None = None,
        confidence: Confidence = CERTAIN,
    ) -> Reason:
        """Return a reason; ``texts`` say it as gained and as lost.

        Without ``places`` it explains the lines of its evidence.
        """
        mine, theirs = tuple(sorted(set(lost))), tuple(sorted(set(gained)))
        if places is None:
            places = {self.left.places[k] for k in mine} | {self.right.places[k] for k in theirs}
        evidence = (mine, theirs) if self.forward else (theirs, mine)
        text = texts[0 if self.forward else 1]
        return Reason(kind, text, confidence, self.function, *evidence, frozenset(places))

    @cached_property
    def lines(self) -> list[Place]:
        """Source lines with code on either side, in order."""
        return sorted(
            {*self.left.at, *self.right.at}, key=lambda place: (place.file, place.line, place.old)
        )

    @cached_property
    def loop_pairs(self) -> dict[int, list[int]]:
        """Loop of ``left`` -> loops of ``right`` that come of it, the busiest first."""
        return self.context.loop_pairs(self)

    @cached_property
    def home(self) -> frozenset[Place]:
        """The function's own source lines; empty where they are not known."""
        return self.context.homes.get(plain_name(self.function), frozenset())

    @cached_property
    def divided_otherwise(self) -> bool:
        """Whether the two sides call other functions of this code: work may stand in these."""
        own = self.context.homes.keys()
        called = [
            {name for _, name in side.calls if name in side.names or plain_name(name) in own}
            for side in (self.left, self.right)
        ]
        return called[0] != called[1] or ".part." in self.left.body.owner + self.right.body.owner

    def brought(self, place: Place) -> bool:
        """Tell whether a line of another function has code here on one side only.

        What was inlined on one side stands elsewhere on the other: it neither came nor went.
        """
        if not self.home or place in self.home:
            return False
        if (place in self.left.at) == (place in self.right.at):
            return False
        lines = self.context.lines_around(place)
        return not (lines & self.left.at.keys() and lines & self.right.at.keys())

    def shared(self, side: FunctionModel, among: Iterable[int]) -> list[int]:
        """Return those instructions that are not of lines inlined on one side only."""
        return [k for k in among if not self.brought(side.places[k])]

    @cached_property
    def shapes(self) -> "tuple[Shapes, Shapes]":
        """What the facts say of the shape of both sides' loops."""
        return Shapes(self.left), Shapes(self.right)

    def differs(self, place: Place) -> bool:
        """Tell whether a line is more than renamed or reordered."""
        return self.states.get(place, "changed") not in ("same", "renamed", "reordered")


class Shapes:
    """The facts on the shape of a side's loops, each worked out when it is asked for."""

    def __init__(self, side: FunctionModel) -> None:
        self.side = side
        self._known: dict[int, tuple[Fact, Fact, Fact]] = {}

    def of(self, loop: int) -> tuple[Fact, Fact, Fact]:
        """Return the facts "vector", "unrolled" and "bytes per pass" of a loop."""
        if loop not in self._known:
            self._known[loop] = shape_facts(self.side, loop)
        return self._known[loop]

    def is_vector(self, loop: int) -> bool:
        """Tell whether a loop is vectorised."""
        return self.of(loop)[0].value != 1

    def copies(self, loop: int) -> int | None:
        """Return how many elements, or vectors, a pass handles; None if it is not known."""
        value = self.of(loop)[1].value
        return value if isinstance(value, int) else None

    def advance(self, loop: int) -> int | None:
        """Return by how many bytes a pass goes on in memory; None if it is not known."""
        value = self.of(loop)[2].value
        return value if isinstance(value, int) else None


class RuleContext:
    """What rules may know of the two codes beyond one function."""

    def __init__(
        self,
        titles: Mapping[str, str],
        homes: Mapping[str, frozenset[Place]],
        other_functions: bool = False,
        one_source: bool = True,
        inside: tuple[frozenset[Place], frozenset[Place]] = (frozenset(), frozenset()),
        edited: frozenset[Place] = frozenset(),
        optimised: bool = False,
    ) -> None:
        self._around: dict[Place, frozenset[Place]] | None = None
        self.titles = titles
        self.homes = homes  # function -> source lines of its own code, on either side
        self.inside = inside  # source lines with code in any function, on both sides
        self.known = frozenset[Place]().union(*homes.values())
        self.optimised = optimised  # no side keeps all variables on the stack
        self.edited = edited  # lines whose source is not the same on both sides
        self.other_functions = other_functions  # two functions of different names are compared
        self.one_source = one_source and not other_functions  # both sides were written alike

    def title(self, name: str) -> str:
        """Return a function's name as the source writes it."""
        return self.titles.get(name, self.titles.get(plain_name(name), plain_name(name)))

    def lines_around(self, place: Place) -> frozenset[Place]:
        """Return the lines of the function that a line belongs to, as far as that is known."""
        if self._around is None:
            self._around = {p: lines for lines in self.homes.values() for p in lines}
        return self._around.get(place, frozenset())

    def calls_for(self, places: Collection[Place], side: FunctionModel) -> bool:
        """Tell whether a side calls a function that lines belong to: they are inlined elsewhere."""
        called = {plain_name(name) for _, name in side.calls}
        return any(self.homes.get(name, frozenset()) & set(places) for name in called)

    def loop_pairs(self, view: View) -> dict[int, list[int]]:
        """Match loops by the source lines that they alone hold; nested ones by depth."""
        left, right = view.left, view.right
        lines = [[_loop_lines(side, k) for k in range(len(side.loops))] for side in (left, right)]
        out: dict[int, list[int]] = {k: [] for k in range(len(left.loops))}
        copies: dict[int, list[int]] = {}  # loop of the right -> those of the left it may come of
        for j, mine in enumerate(lines[1]):
            scores = {
                i: overlap + 0.5 * (right.loops[j].depth == left.loops[i].depth)
                for i, other in enumerate(lines[0])
                if (overlap := _overlap(mine, other))
            }
            best = [i for i, score in scores.items() if score == max(scores.values())]
            if len(best) == 1:
                out[best[0]].append(j)
            elif best:
                copies[j] = best
        for i, j in _pair_copies(left, right, copies):
            out[i].append(j)
        self._add_near(lines, (left, right), out)
        for found in out.values():
            found.sort(key=lambda j: tuple(-n for n in _work(right, j)))
        return out

    def _add_near(
        self,
        lines: Sequence[Sequence[Counter[Place]]],
        sides: tuple[FunctionModel, FunctionModel],
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


def _pair_copies(
    left: FunctionModel, right: FunctionModel, copies: Mapping[int, Sequence[int]]
) -> Iterator[tuple[int, int]]:
    """Pair loops that stand for the same lines, as of code inlined twice: the most alike first."""
    ranked = sorted(
        (-_alike(left, i, right, j), i, j) for j, those in copies.items() for i in those
    )
    taken: set[int] = set()
    paired: set[int] = set()
    for _, i, j in ranked:
        if i not in taken and j not in paired:
            taken.add(i)
            paired.add(j)
            yield i, j
    for _, i, j in ranked:
        if j not in paired:  # more than the left has: of the one that it is most like
            paired.add(j)
            yield i, j


def _alike(left: FunctionModel, i: int, right: FunctionModel, j: int) -> float:
    """Return the share of two loops' kinds of instructions that both have, from 0 to 1."""
    kinds = [Counter(side.kinds[k] for k in side.own(n)) for side, n in ((left, i), (right, j))]
    return (kinds[0] & kinds[1]).total() / max((kinds[0] | kinds[1]).total(), 1)


def _beside(one: Iterable[Place], other: Iterable[Place]) -> bool:
    return any(p.file == q.file and abs(p.line - q.line) <= 2 for p in one for q in other)


Rule = Callable[[View], Iterator[Reason]]


def _loop_lines(side: FunctionModel, loop: int) -> Counter[Place]:
    return Counter(side.places[k] for k in side.own(loop) if side.places[k].line > 0)


def _overlap(one: Counter[Place], other: Counter[Place]) -> float:
    """Return the share of lines that two loops have in common (Jaccard's index)."""
    union = one.keys() | other.keys()
    return len(one.keys() & other.keys()) / len(union) if union else 0.0


def _work(side: FunctionModel, loop: int) -> tuple[int, int]:
    """Return how much a loop does in a pass: packed calculations count first."""
    own = side.own(loop)
    vectors = sum(side.effects[k].width > 0 for k in own)
    return vectors, len(own)
