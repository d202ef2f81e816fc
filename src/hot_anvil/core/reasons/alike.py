"""Whether a line has the same operations on both sides, counted without what only serves them.

Copies between registers, stack slots, constants, jumps and the stack frame serve the work of a
line; how an address or a sum is put together does not change what is added. What is left is
counted on both sides. That it is the same does not say that it is done to the same values.
"""

import re
from collections import Counter
from collections.abc import Collection, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.reasons.differences import verb

Token = tuple[object, ...]
_CONTENT = re.compile(r"\{[0-9a-f]+\}")  # what stands for a constant in memory, by its bytes
_ORDER = {
    "eq": "equality", "ne": "equality", "lt": "order", "le": "order", "gt": "order", "ge": "order",
    "ult": "unsigned order", "ule": "unsigned order", "ugt": "unsigned order",
    "uge": "unsigned order", "s": "sign", "ns": "sign", "mi": "sign", "pl": "sign",
}  # fmt: skip
_QUIET = (b.CONSTANT, b.NOTHING, b.LANDING, b.RETURN, b.PUSH, b.POP)


class Counted:
    """The operations of a line on both sides."""

    def __init__(
        self,
        left: FunctionModel, right: FunctionModel, mine: Sequence[int], theirs: Sequence[int],
    ) -> None:  # fmt: skip
        self.sides = left, right
        self.among = mine, theirs
        self.lines = _Line(left, mine), _Line(right, theirs)
        self.known = bool(mine or theirs) and not any(line.other for line in self.lines)

    def served(self) -> str:
        """Return in words what differs beside the operations, "" where these differ too."""
        first, second = self.lines
        if not self.known or first.tokens != second.tokens:
            return ""
        differing = [
            word for word in _WORDS if first.beside.get(word, 0) != second.beside.get(word, 0)
        ]
        if not differing and first.instructions != second.instructions:
            return "which instructions do them"
        return _listed(differing or ["registers or the order"])

    def repeated(self, in_right: bool) -> tuple[int, bool]:
        """Return how many times over one side has the operations of the other, 0 for not so.

        Also whether it is known that only one of them is carried out: each stands in a block of
        its own, and none of these leads to another.
        """
        once, often = self.lines if in_right else self.lines[::-1]
        count = often.tokens.total() // max(once.tokens.total(), 1)
        if not self.known or count < 2:
            return 0, False
        if often.tokens != Counter({token: n * count for token, n in once.tokens.items()}):
            return 0, False
        side, among = self.sides[in_right], self.among[in_right]
        blocks = {side.body.block_of[k] for k in among}
        return count, len(blocks) == count and not any(_leads_to(side, k, blocks) for k in blocks)


def _leads_to(side: FunctionModel, block: int, others: Collection[int]) -> bool:
    seen: set[int] = set()
    todo = list(side.body.next_blocks[block])
    while todo:
        one = todo.pop()
        if one in others:
            return True
        if one not in seen:
            seen.add(one)
            todo += side.body.next_blocks[one]
    return False


_RETURNS = "the number of returns"
_WORDS = (
    "copies between registers", "stack slots", "constants", "jumps", _RETURNS, "the stack frame",
    "how addresses are put together", "which way tests go", "whether what is loaded is extended",
)  # fmt: skip


def _listed(words: Sequence[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


class _Line:
    """The operations of a line on one side, and what serves them."""

    def __init__(self, side: FunctionModel, among: Sequence[int]) -> None:
        self.side = side
        self.tokens: Counter[Token] = Counter()
        self.beside: dict[str, object] = {}
        self.other = False  # something whose work is not known
        self.instructions = Counter(side.body.texts[k].partition(" ")[0] for k in among)
        for k in among:
            self._add(k)

    def _more(self, word: str, what: object = 1) -> None:
        known = self.beside.setdefault(word, Counter())
        assert isinstance(known, Counter)
        known[what] += 1

    def _add(self, k: int) -> None:
        side, done = self.side, self.side.effects[k]
        if k in side.saves:
            self._more("the stack frame", side.body.texts[k])
            return
        if done.kind in (b.OTHER, b.BLOCK, b.SKIP) or side.body.items[k].inline_asm:
            self.other = True
            return
        slot = k in side.slots
        if slot:
            self._more("stack slots", (done.loads, done.stores))
        else:
            self._accesses(k)
        self._work(k)

    def _accesses(self, k: int) -> None:
        done = self.side.effects[k]
        if not (done.loads or done.stores) or self.side.loads_constant(k):
            return
        name = self.side.body.items[k].mnemonic.rpartition(" ")[2]
        size = self.side.body.arch.semantics.access_bytes(name, done)
        symbol = done.memory.symbol if done.memory else ""
        self.tokens.update(
            (what, size, symbol) for what, has in (("load", done.loads), ("store", done.stores))
            if has
        )  # fmt: skip
        scale = self.side.body.arch.semantics.scale(self.side.body.items[k].operands)
        if done.memory:
            put = bool(done.memory.indexed), scale, done.memory.offset
            self._more("how addresses are put together", put)

    def _work(self, k: int) -> None:
        side, done = self.side, self.side.effects[k]
        kind = side.kinds[k]
        if kind == b.JUMP and not done.indirect and not side.body.leaves(k):
            self._more("jumps")
        elif kind in _QUIET:
            self._more(_RETURNS if kind == b.RETURN else "constants", done.immediate)
        elif kind == b.MOVE:
            if not (done.loads or done.stores):
                self._more("copies between registers")
        elif kind == b.COMPARE:
            self.tokens["compare", done.immediate or 0] += 1
        elif done.condition:
            self.tokens[kind, _ORDER.get(done.condition, done.condition)] += 1
            self._more("which way tests go", done.condition)
        elif kind == b.ADDRESS:
            self._address(k)
        elif kind in (b.ADD, b.SUB):
            carry = side.body.arch.semantics.carry.match(side.body.items[k].mnemonic)
            self._sum(f"{kind} carrying" if carry else kind, done.immediate)
        elif kind in (b.CALL, b.JUMP):
            self.tokens["call", done.target or "a pointer"] += 1
        elif kind == b.EXTEND and done.loads and done.signed != "signed":
            self._more("whether what is loaded is extended")
        elif kind == b.SHUFFLE:
            self.tokens[kind, side.body.items[k].mnemonic] += 1
        else:
            what = verb(side.body, k) or done.signed, done.immediate
            self.tokens[kind, *what, done.lanes, done.bits if done.packed else 0] += 1

    def _sum(self, kind: str, immediate: int | None) -> None:
        if immediate is None or kind not in (b.ADD, b.SUB):
            self.tokens[kind, immediate] += 1
        elif immediate:
            self.tokens["add", -immediate if kind == b.SUB else immediate] += 1

    def _address(self, k: int) -> None:
        """Count an address that is put together as the sums and shifts that it stands for."""
        side, memory = self.side, self.side.effects[k].memory
        if memory is None or memory.symbol or not memory.base:
            content = _CONTENT.search(side.body.texts[k])
            symbol = memory.symbol if memory else side.body.texts[k]
            self.tokens["address", content[0] if content else symbol] += 1
            return
        if memory.base in side.body.frame_registers and not memory.indexed:
            self.tokens["address", "a stack slot"] += 1
            self._more("stack slots", memory.offset)
            return
        scale = side.body.arch.semantics.scale(side.body.items[k].operands)
        if memory.indexed:
            self.tokens[b.ADD, None] += 1
            if scale > 1:
                self.tokens["scale", scale] += 1
        if memory.offset:
            self.tokens["add", memory.offset] += 1
