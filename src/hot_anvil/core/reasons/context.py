"""What rules over a function's two sides work with, and the reasons that they give.

A rule looks from one side (``a``) to the other (``b``) for something that
``b`` has gained. It runs in both directions, so one rule finds a loop that was
vectorised and one that no longer is; the reason says it as left to right.
"""

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from hot_anvil.core.code.places import Place
from hot_anvil.core.diff.records import CERTAIN, Reason
from hot_anvil.core.model.function import Side
from hot_anvil.core.model.symbols import plain_name


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
        one_source: bool = True,
        inside: tuple[frozenset[Place], frozenset[Place]] = (frozenset(), frozenset()),
    ) -> None:
        self.titles = titles
        self.homes = homes  # function -> source lines of its own code, on either side
        self.inside = inside  # source lines with code in any function, on both sides
        self.known = frozenset[Place]().union(*homes.values())
        self.other_functions = other_functions  # two functions of different names are compared
        self.one_source = one_source and not other_functions  # both sides were written alike

    def title(self, name: str) -> str:
        """Return a function's name as the source writes it."""
        return self.titles.get(name, self.titles.get(plain_name(name), plain_name(name)))

    def calls_for(self, places: Collection[Place], side: Side) -> bool:
        """Tell whether a side calls a function that lines belong to: they are inlined elsewhere."""
        called = {plain_name(name) for _, name in side.calls}
        return any(self.homes.get(name, frozenset()) & set(places) for name in called)

    def loop_pairs(self, view: View) -> dict[int, list[int]]:
        """Match loops by the source lines that they alone hold; nested ones by depth."""
        a, c = view.a, view.b
        lines = [[_loop_lines(side, k) for k in range(len(side.loops))] for side in (a, c)]
        out: dict[int, list[int]] = {k: [] for k in range(len(a.loops))}
        for j, mine in enumerate(lines[1]):
            scores = [
                (_overlap(mine, other) + 0.5 * (c.loops[j].depth == a.loops[i].depth), -i)
                for i, other in enumerate(lines[0])
                if _overlap(mine, other)
            ]
            if scores:
                out[-max(scores)[1]].append(j)
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


def _loop_lines(side: Side, loop: int) -> Counter[Place]:
    return Counter(side.places[k] for k in side.own(loop) if side.places[k].line > 0)


def _overlap(one: Counter[Place], other: Counter[Place]) -> float:
    """Return the share of lines that two loops have in common (Jaccard's index)."""
    union = one.keys() | other.keys()
    return len(one.keys() & other.keys()) / len(union) if union else 0.0


def _work(side: Side, loop: int) -> tuple[int, int]:
    """Return how much a loop does in a pass: packed calculations count first."""
    own = side.own(loop)
    vectors = sum(side.effects[k].width > 0 for k in own)
    return vectors, len(own)
