"""The pieces of two sides of a function, and which of them compute the same."""

from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property

from hot_anvil.core.arch import evaluation_of
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.evaluate.liveness import Liveness
from hot_anvil.core.evaluate.sameness import EQUAL, OPEN, Answer, Machine, Piece, compare
from hot_anvil.core.model.control_flow import Body
from hot_anvil.core.model.matching import one_to_one
from hot_anvil.core.model.webs import Webs, agreed, webs_of

_MOST_INSTRUCTIONS = 600  # of a function whose pieces are looked at
_MOST_PIECES = 60  # of a function that are evaluated


class Side:
    """One side's pieces at one width of registers."""

    def __init__(self, body: Body, width: int) -> None:
        self.body = body
        self.live = Liveness(body, width)
        self.pieces: list[tuple[int, int]] = []  # first instruction, end
        self.piece_of: dict[int, int] = {}
        for block in range(len(body.leaders)):
            start = first = body.bounds[block]
            end = body.bounds[block + 1]
            for k in range(first, end + 1):
                if k < end and self.live.steps[k] is not None:
                    continue
                self._add(start, k)
                start = k + 1

    def _add(self, first: int, end: int) -> None:
        if end > first:
            self.piece_of.update(dict.fromkeys(range(first, end), len(self.pieces)))
            self.pieces.append((first, end))

    def piece(self, number: int) -> Piece:
        """Return the steps of a piece, and what is read after it."""
        first, end = self.pieces[number]
        steps = [step for k in range(first, end) for step in self.live.steps[k] or ()]
        return Piece(steps, self.live.behind(self.body.block_of[first], end - 1))

    def goals(self, number: int) -> tuple[int, ...]:
        """Return the blocks that a piece's branch or end leads to, () in the middle of a block."""
        _, end = self.pieces[number]
        block = self.body.block_of[end - 1]
        if end != self.body.bounds[block + 1]:
            return ()
        return tuple(self._through(goal) for goal in self.body.next_blocks[block])

    def _through(self, block: int) -> int:
        """Return a block, or the one that it only jumps to."""
        body = self.body
        for _ in range(8):
            first, end = body.bounds[block], body.bounds[block + 1]
            kinds = {body.effects[k].kind for k in range(first, end)}
            if not kinds <= {b.JUMP, b.NOTHING} or len(body.next_blocks[block]) != 1:
                return block
            block = body.next_blocks[block][0]
        return block


class Sameness:
    """Two sides of one function; answers whether instructions are the same work, written otherwise.

    ``pairs``: instructions that correspond, -1 for none; ``alike``: those of them that are the
    same but for the names of registers.
    """

    def __init__(
        self, left: Body, right: Body,
        pairs: Sequence[tuple[int, int]], alike: Sequence[tuple[int, int]],
    ) -> None:  # fmt: skip
        self.left, self.right = left, right
        self.pairs, self.alike = pairs, alike
        self.evaluation = evaluation_of(left.isa)
        self.tried = 0
        self._known: dict[tuple[int, int], bool] = {}

    @cached_property
    def possible(self) -> bool:
        """Whether the functions are of a size, and an instruction set, that is evaluated."""
        long = max(len(self.left.items), len(self.right.items)) > _MOST_INSTRUCTIONS
        return not long and bool(self.evaluation.flags or len(self.evaluation.widths) > 1)

    @cached_property
    def _sides(self) -> list[tuple[int, Side, Side]]:
        return [(w, Side(self.left, w), Side(self.right, w)) for w in self.evaluation.widths]

    @cached_property
    def _webs(self) -> tuple[Webs, Webs, Mapping[int, int]]:
        first, second = webs_of(self.left), webs_of(self.right)
        used = [
            two for i, j in self.alike for two in zip(first.names(i), second.names(j), strict=True)
        ]
        kept = agreed(used, first, second)
        return first, second, {a[2]: c[2] for a, c in kept.items() if a[0] and c[0]}

    @cached_property
    def partners(self) -> dict[int, int]:
        """Piece of the left side -> the one of the right that most of its instructions go with."""
        _, left, right = self._sides[0]
        return one_to_one(
            (left.piece_of[i], right.piece_of[j])
            for i, j in self.pairs
            if i in left.piece_of and j in right.piece_of
        )

    @cached_property
    def _back(self) -> dict[int, int]:
        return {j: i for i, j in self.partners.items()}

    @cached_property
    def _blocks(self) -> dict[int, int]:
        """Block of the left side -> of the right."""
        return one_to_one(
            (self.left.block_of[i], self.right.block_of[j])
            for i, j in self.pairs
            if i >= 0 and j >= 0
        )

    def same(self, mine: Iterable[int], theirs: Iterable[int]) -> bool:
        """Tell whether all these instructions stand in pieces that compute the same."""
        if not self.possible:
            return False
        _, left, right = self._sides[0]
        mine, theirs = list(mine), list(theirs)
        pieces = {left.piece_of.get(i, -1) for i in mine}
        others = {right.piece_of.get(j, -1) for j in theirs}
        if -1 in pieces | others:
            return False
        wanted = pieces | {self._back.get(j, -1) for j in others}
        if -1 in wanted or not wanted <= self.partners.keys():
            return False
        return all(self._equal(i, self.partners[i]) for i in sorted(wanted))

    def _equal(self, i: int, j: int) -> bool:
        if (i, j) not in self._known:
            if self.tried >= _MOST_PIECES:
                return False
            self.tried += 1
            answers = [self._answer(i, j, *one) for one in self._sides]
            self._known[i, j] = all(answer == EQUAL for answer in answers)
        return self._known[i, j]

    def _answer(self, i: int, j: int, width: int, left: Side, right: Side) -> Answer:
        turned = self._turned(left.goals(i), right.goals(j))
        if turned is None:
            return OPEN
        machine = Machine(width, frozenset(self.evaluation.flags), self.left.arch.abi.stack)
        first, second, _ = self._webs
        (start, end), (begin, stop) = left.pieces[i], right.pieces[j]
        before = self._related(first.held_before(start), second.held_before(begin))
        after = self._related(first.held_behind(end - 1), second.held_behind(stop - 1))
        return compare(left.piece(i), right.piece(j), before, after, machine, turned).answer

    def _turned(self, mine: tuple[int, ...], theirs: tuple[int, ...]) -> bool | None:
        """Tell whether the ways out are swapped, None where they are not known to correspond."""
        if len(mine) != len(theirs):
            return None
        expected = [self._blocks.get(goal, -1) for goal in mine]
        if -1 in expected:
            return None
        if tuple(expected) == theirs:
            return False
        return True if tuple(reversed(expected)) == theirs and len(theirs) == 2 else None

    def _related(self, mine: Mapping[str, int], theirs: Mapping[str, int]) -> dict[str, str]:
        """Return the registers that hold the same value on both sides."""
        kept = self._webs[2]
        where = {web: family for family, web in theirs.items()}
        out = {}
        for family, web in mine.items():
            goal = kept.get(web, -1)
            if goal in where:
                out[family] = where[goal]
        return out
