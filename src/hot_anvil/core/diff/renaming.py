"""Prove that two functions differ in the names of registers and labels only.

A register holds one value after another, so registers are compared by *web*: a
value from where it is made to where it is last used, with all uses that the
same makings may reach (Muchnick 1997, section 16.3.3). A renaming holds if
webs correspond one to one. Labels correspond one to one over the function.
"""

from collections import Counter
from collections.abc import Sequence
from functools import lru_cache
from itertools import pairwise

from hot_anvil.core.arch import architecture
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.semantics import BOTH, DEFINE
from hot_anvil.core.arch.spelling import shape, split_names
from hot_anvil.core.model.control_flow import Body

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
    """The webs of a function's registers, by union of what reaches one another."""

    def __init__(self, body: Body) -> None:
        self.steps = [_steps(body, place) for place in range(len(body.items))]
        self.joined: list[int] = []
        self.rows: list[list[Name]] = []
        bounds = [*body.leaders, len(body.items)]
        self.blocks = list(pairwise(bounds))
        self.after = body.next_blocks
        self._number()

    def names(self, place: int) -> list[Name]:
        """Return the names of an instruction, in the order of its shape."""
        return [
            (kind, family, self._root(web) if kind else 0) for kind, family, web in self.rows[place]
        ]

    def _new(self) -> int:
        self.joined.append(len(self.joined))
        return len(self.joined) - 1

    def _root(self, web: int) -> int:
        joined = self.joined
        while joined[web] != web:
            joined[web] = joined[joined[web]]
            web = joined[web]
        return web

    def _join(self, one: int, other: int) -> None:
        a, c = self._root(one), self._root(other)
        if a != c:
            self.joined[max(a, c)] = min(a, c)

    def _number(self) -> None:
        """Give each name its web: block by block, then joined along the edges."""
        entering = [dict[str, int]() for _ in self.blocks]
        for block, families in enumerate(self._live()):
            entering[block] = {family: self._new() for family in families}
        for block, (first, end) in enumerate(self.blocks):
            state = dict(entering[block])
            for place in range(first, end):
                self.rows.append(self._row(self.steps[place], state))
            for goal in self.after[block]:
                for family, web in entering[goal].items():
                    if family in state:
                        self._join(web, state[family])

    def _row(self, step: "_Step", state: dict[str, int]) -> list[Name]:
        named, written = step
        before = {family: state[family] for family, role in named if role and family in state}
        for family in written:
            state[family] = self._new()
        row: list[Name] = []
        for family, role in named:
            if not role:
                row.append(("", family, 0))
                continue
            web = before.get(family, -1)
            if role == DEFINE or web < 0:
                if role != DEFINE and family not in written:
                    state[family] = self._new()
                web = state[family]
            elif role == BOTH:
                self._join(web, state[family])
            row.append(("register", family, web))
        return row

    def _live(self) -> list[set[str]]:
        """Return for each block the families whose value it, or one after it, uses."""
        uses: list[set[str]] = []
        makes: list[set[str]] = []
        for first, end in self.blocks:
            used: set[str] = set()
            made: set[str] = set()
            for named, written in self.steps[first:end]:
                used.update(f for f, role in named if role and role != DEFINE and f not in made)
                made.update(written)
            uses.append(used)
            makes.append(made)
        live = [set(used) for used in uses]
        before: list[list[int]] = [[] for _ in self.blocks]
        for block, goals in enumerate(self.after):
            for goal in goals:
                before[goal].append(block)
        todo = list(range(len(live)))
        while todo:
            block = todo.pop()
            for earlier in before[block]:
                more = live[block] - makes[earlier] - live[earlier]
                if more:
                    live[earlier] |= more
                    todo.append(earlier)
        return live


# Names of an instruction with their roles ("" for a label), and families that it writes.
_Step = tuple[list[tuple[str, str]], tuple[str, ...]]


def _steps(body: Body, place: int) -> _Step:
    item = body.items[place]
    call = body.effects[place].kind == b.CALL
    return _step(body.texts[place], item.mnemonic, item.operands, body.isa, call)


@lru_cache(maxsize=1 << 17)
def _step(text: str, mnemonic: str, operands: tuple[str, ...], isa_name: str, call: bool) -> _Step:
    arch = architecture(isa_name)
    syntax, semantics = arch.syntax, arch.semantics
    told = semantics.roles(mnemonic, operands)
    _, labels, families = split_names(text, isa_name)
    roles = [
        role
        for operand, role in zip(operands, told, strict=True)
        for _ in syntax.register.findall(operand)
    ]
    if len(families) != len(roles):  # an operand spelled otherwise: each name may be both
        roles = [BOTH] * len(families)
    named = [(label, "") for label in labels] + list(zip(families, roles, strict=True))
    written = [family for family, role in named if role in (DEFINE, BOTH)]
    written += semantics.hard_writes(mnemonic, operands)
    if call:
        written += sorted(arch.abi.clobbered)
    return named, tuple(dict.fromkeys(written))
