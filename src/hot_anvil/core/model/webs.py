"""The values that the registers of a function hold, one after another.

A register holds one value after another, so registers are compared by *web*: a value from where
it is made to where it is last used, with all uses that the same makings may reach (Muchnick 1997,
section 16.3.3).
"""

from collections import Counter
from collections.abc import Mapping, Sequence
from functools import lru_cache
from itertools import pairwise
from typing import Any

from hot_anvil.core.arch import architecture
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.semantics import BOTH, DEFINE
from hot_anvil.core.arch.spelling import split_names
from hot_anvil.core.model.control_flow import Body

Name = tuple[str, str, int]  # where it is used: ("", label, 0), ("register", family, web)


class Webs:
    """The webs of a function's registers, by union of what reaches one another."""

    def __init__(self, body: Body) -> None:
        self.body = body
        self.behind: dict[int, dict[str, int]] = {}  # instruction -> family -> web
        self.entering: list[dict[str, int]] = []
        self.steps = [_steps(body, place) for place in range(len(body.items))]
        self.joined: list[int] = []
        self.rows: list[list[Name]] = []
        bounds = [*body.leaders, len(body.items)]
        self.blocks = list(pairwise(bounds))
        self.after = body.next_blocks
        self.settled: set[int] = set()  # webs whose register is not the function's own choice
        self._number()

    def names(self, place: int) -> list[Name]:
        """Return the names of an instruction, in the order of its shape."""
        return [
            (kind, family, self.root(web) if kind else 0) for kind, family, web in self.rows[place]
        ]

    def held_before(self, place: int) -> dict[str, int]:
        """Return family -> web of what registers hold before an instruction."""
        block = self.body.block_of[place]
        held = self.entering[block] if place == self.blocks[block][0] else self.behind[place - 1]
        return {family: self.root(web) for family, web in held.items()}

    def held_behind(self, place: int) -> dict[str, int]:
        """Return family -> web of what registers hold behind an instruction."""
        return {family: self.root(web) for family, web in self.behind[place].items()}

    def returned(self) -> dict[str, set[int]]:
        """Return register for results -> its webs where the function returns."""
        out: dict[str, set[int]] = {}
        for place, done in enumerate(self.body.effects):
            if done.kind == b.RETURN:
                held = self.held_behind(place)
                for family in self.body.arch.abi.results & held.keys():
                    out.setdefault(family, set()).add(held[family])
        return out

    def _new(self) -> int:
        self.joined.append(len(self.joined))
        return len(self.joined) - 1

    def root(self, web: int) -> int:
        """Return what stands for all webs that were joined to one."""
        joined = self.joined
        while joined[web] != web:
            joined[web] = joined[joined[web]]
            web = joined[web]
        return web

    def _join(self, one: int, other: int) -> None:
        a, c = self.root(one), self.root(other)
        if a != c:
            self.joined[max(a, c)] = min(a, c)

    def _number(self) -> None:
        """Give each name its web: block by block, then joined along the edges."""
        entering = self.entering = [dict[str, int]() for _ in self.blocks]
        for block, families in enumerate(self._live()):
            entering[block] = {family: self._new() for family in families}
        self.settled.update(entering[0].values() if entering else ())
        for block, (first, end) in enumerate(self.blocks):
            state = dict(entering[block])
            for place in range(first, end):
                self.rows.append(self._row(self.steps[place], state))
                self.behind[place] = dict(state)
            for goal in self.after[block]:
                for family, web in entering[goal].items():
                    if family in state:
                        self._join(web, state[family])

    def _row(self, step: "_Step", state: dict[str, int]) -> list[Name]:
        named, written, unnamed = step
        before = {family: state[family] for family, role in named if role and family in state}
        for family in written:
            state[family] = self._new()
        self.settled.update(state[family] for family in unnamed)
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
            for named, written, _ in self.steps[first:end]:
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


@lru_cache(maxsize=4)
def webs_of(body: Body) -> Webs:
    """Return the webs of a function; those of the two at hand are kept."""
    return Webs(body)


def agreed(used: Sequence[tuple[Name, Name]], left: Webs, right: Webs) -> dict[Name, Name]:
    """Return the one-to-one correspondence that most uses share.

    What callers rely on is fixed: registers that hold something when a function begins, and those
    that it returns results in.
    """
    forth: dict[Name, Name] = {}
    back: dict[Name, Name] = {}
    votes = Counter(used)
    position = {two: k for k, two in reversed(list(enumerate(used)))}
    by_votes = sorted(votes, key=lambda two: (-votes[two], position[two]))
    settled = [{side.root(web) for web in side.settled} for side in (left, right)]
    for a, c in (*_fixed(left, right), *by_votes):
        if a[1] != c[1] and a[0] and (a[2] in settled[0] or c[2] in settled[1]):
            continue  # a caller, or the instruction itself, chose the register
        if a not in forth and c not in back:
            forth[a], back[c] = c, a
    return forth


def _fixed(left: Webs, right: Webs) -> list[tuple[Name, Name]]:
    """Return the webs that callers make correspond."""
    if not left.blocks or not right.blocks:
        return []
    found = [(family, *two) for family, two in _shared(left.entering[0], right.entering[0])]
    for family, (one, other) in _shared(left.returned(), right.returned()):
        if len(one) == len(other) == 1:
            found.append((family, next(iter(one)), next(iter(other))))
    return [
        (("register", family, left.root(a)), ("register", family, right.root(c)))
        for family, a, c in found
    ]


def _shared(one: Mapping[str, Any], other: Mapping[str, Any]) -> list[tuple[str, tuple[Any, Any]]]:
    return [(key, (one[key], other[key])) for key in sorted(one.keys() & other.keys())]


# Names of an instruction with their roles ("" for a label), families that it writes, and those of
# them that it does not name.
_Step = tuple[list[tuple[str, str]], tuple[str, ...], tuple[str, ...]]


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
    every = tuple(dict.fromkeys(written))
    known = {family for family, _ in named}
    return named, every, tuple(family for family in every if family not in known)
