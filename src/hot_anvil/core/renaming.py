"""Prove that two functions differ in the names of registers and labels only.

A register holds one value after another, so registers are compared by *web*: a
value from where it is made to where it is last used, with all uses that the
same makings may reach (Muchnick 1997, section 16.3.3). A renaming holds if
webs correspond one to one. Labels correspond one to one over the function.
"""

from collections import Counter
from collections.abc import Sequence
from itertools import pairwise

from hot_anvil.core.flow import Body
from hot_anvil.core.isa import isa_of
from hot_anvil.core.isa.spelling import shape, split_names
from hot_anvil.core.meaning import base as b
from hot_anvil.core.meaning.base import BOTH, DEFINE

_LIMIT = 4000  # instructions of a function up to which webs are worked out

Name = tuple[str, str, int]  # where it is used: ("", label, 0), ("register", family, web)


def consistent(left: Body, right: Body, pairs: Sequence[tuple[int, int]]) -> list[bool]:
    """Return for each pair of places whether one renaming of the function covers it.

    The instructions of each pair have one shape. Where names contradict each
    other, the correspondence that more of the pairs share holds.
    """
    names = [
        (shape(left.texts[i], left.isa)[1], shape(right.texts[j], right.isa)[1]) for i, j in pairs
    ]
    if _one_to_one([two for a, b_ in names for two in zip(a, b_, strict=True)]):
        return [True] * len(pairs)
    if max(len(left.items), len(right.items)) > _LIMIT:
        return [a == b_ for a, b_ in names]
    first, second = Webs(left), Webs(right)
    used = [list(zip(first.names(i), second.names(j), strict=True)) for i, j in pairs]
    kept = _agreed([two for row in used for two in row])
    return [all(kept.get(a) == c for a, c in row) for row in used]


def _one_to_one(names: Sequence[tuple[str, str]]) -> bool:
    forth: dict[str, str] = {}
    back: dict[str, str] = {}
    return all(forth.setdefault(a, c) == c and back.setdefault(c, a) == a for a, c in names)


def _agreed(used: Sequence[tuple[Name, Name]]) -> dict[Name, Name]:
    """Return the one-to-one correspondence that most uses share."""
    votes = Counter(used)
    position = {two: k for k, two in reversed(list(enumerate(used)))}
    forth: dict[Name, Name] = {}
    back: dict[Name, Name] = {}
    for a, c in sorted(votes, key=lambda two: (-votes[two], position[two])):
        if a not in forth and c not in back:
            forth[a], back[c] = c, a
    return forth


class Webs:
    """The webs of a function's registers."""

    def __init__(self, body: Body) -> None:
        self.body = body
        self.isa = isa_of(body.isa)
        self.joined: dict[int, int] = {}
        # For each instruction: names in it, as (family, makings that reach it or itself).
        self.rows: list[list[tuple[str, int]]] = []
        self._work_out()

    def names(self, place: int) -> list[Name]:
        """Return the names of an instruction, in the order of its shape."""
        return [
            ("", family, 0) if web < 0 else ("register", family, self._root(web))
            for family, web in self.rows[place]
        ]

    def _root(self, web: int) -> int:
        while self.joined.get(web, web) != web:
            web = self.joined[web]
        return web

    def _join(self, one: int, other: int) -> None:
        a, c = self._root(one), self._root(other)
        if a != c:
            self.joined[max(a, c)] = min(a, c)

    def _work_out(self) -> None:
        body = self.body
        bounds = [*body.leaders, len(body.items)]
        blocks = list(pairwise(bounds))
        steps = [_steps(body, place) for place in range(len(body.items))]
        # A making is numbered; those at the function's start are the first of each family.
        entry: dict[str, int] = {}
        for step in steps:
            for family, _ in step[0]:
                entry.setdefault(family, len(entry))
        made = [
            {family: len(entry) + place * 128 + k for k, family in enumerate(step[1])}
            for place, step in enumerate(steps)
        ]
        reaching = self._reaching(blocks, steps, made, entry)
        for (first, end), state in zip(blocks, reaching, strict=True):
            self._name(range(first, end), steps, made, dict(state))

    def _reaching(
        self,
        blocks: Sequence[tuple[int, int]],
        steps: Sequence["_Step"],
        made: Sequence[dict[str, int]],
        entry: dict[str, int],
    ) -> list[dict[str, frozenset[int]]]:
        """Return for each block the makings that may reach it, by family."""
        after = self.body.next_blocks
        inside: list[dict[str, frozenset[int]]] = [{} for _ in blocks]
        starts = {self.body.block_of[s] for s in self.body.starts if s < len(self.body.items)}
        for block in starts | {0} if blocks else set():
            inside[block] = {family: frozenset((web,)) for family, web in entry.items()}
        last = []
        for first, end in blocks:
            out: dict[str, int] = {}
            for place in range(first, end):
                out.update(made[place])
            last.append({family: frozenset((web,)) for family, web in out.items()})
        todo = list(range(len(blocks)))
        while todo:
            block = todo.pop(0)
            leaving = {**inside[block], **last[block]}
            for goal in after[block]:
                grown = False
                known = inside[goal]
                for family, webs in leaving.items():
                    if not webs <= known.get(family, frozenset()):
                        known[family] = known.get(family, frozenset()) | webs
                        grown = True
                if grown and goal not in todo:
                    todo.append(goal)
        return inside

    def _name(
        self,
        places: range,
        steps: Sequence["_Step"],
        made: Sequence[dict[str, int]],
        state: dict[str, frozenset[int]],
    ) -> None:
        for place in places:
            row = []
            for family, role in steps[place][0]:
                if role == "":
                    row.append((family, -1))
                    continue
                reached = state.get(family, frozenset())
                new = made[place].get(family, -1)
                if role != DEFINE:
                    webs = sorted(reached) or [new]
                    for web in webs[1:]:
                        self._join(webs[0], web)
                    if role == BOTH and new >= 0:
                        self._join(webs[0], new)
                    row.append((family, webs[0] if webs[0] >= 0 else 0))
                else:
                    row.append((family, new))
            self.rows.append(row)
            for family, web in made[place].items():
                state[family] = frozenset((web,))


# Names of an instruction with their roles ("" for a label), and families that it writes.
_Step = tuple[list[tuple[str, str]], tuple[str, ...]]


def _steps(body: Body, place: int) -> _Step:
    item = body.items[place]
    isa = isa_of(body.isa)
    meaning = body.meaning
    told = meaning.roles(item.mnemonic, item.operands)
    _, labels, families = split_names(body.texts[place], body.isa)
    roles = [
        role
        for operand, role in zip(item.operands, told, strict=True)
        for _ in isa.register.findall(operand)
    ]
    if len(families) != len(roles):  # an operand spelled otherwise: each name may be both
        roles = [BOTH] * len(families)
    named = [(label, "") for label in labels] + list(zip(families, roles, strict=True))
    written = [family for family, role in named if role in (DEFINE, BOTH)]
    written += meaning.hard_writes(item.mnemonic, item.operands)
    if body.deeds[place].kind == b.CALL:
        written += sorted(meaning.clobbered)
    return named, tuple(dict.fromkeys(written))
