"""Which registers and flags of a function are needed where, and how many of their low bits.

A backward pass over the flow graph (Aho, Lam, Sethi, Ullman 2006, section 9.2.5), on the steps of
each instruction. What cannot be evaluated reads and writes whole registers as its operands say.
"""

from collections.abc import Mapping, Sequence
from functools import cached_property, lru_cache

from hot_anvil.core.arch import evaluation_of
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.operations import BRANCH, Expr, NotEvaluableError, Step, Steps
from hot_anvil.core.code.text import split_operands
from hot_anvil.core.model.control_flow import Body
from hot_anvil.core.model.registers import read_and_written

Needs = dict[str, int]  # register or flag -> how many of its low bits are read later
_WHOLE = 64
_BITWISE = frozenset(
    ("add", "sub", "mul", "and", "or", "exclusive or", "not")
)  # low bits from low bits


def steps_of(body: Body, k: int, width: int) -> Steps | None:
    """Return what an instruction does, None where that cannot be evaluated."""
    item, done = body.items[k], body.effects[k]
    if item.inline_asm or done.indirect or (done.kind == b.JUMP and body.goals[k] < 0):
        return None  # a jump out of the function is a call
    return _steps(body.texts[k], body.isa, width)


@lru_cache(maxsize=1 << 16)
def _steps(text: str, isa: str, width: int) -> Steps | None:
    mnemonic, _, rest = text.partition(" ")
    try:
        return evaluation_of(isa).operations(mnemonic, split_operands(rest), width)
    except NotEvaluableError:
        return None


def before_step(step: Step, needs: Needs) -> bool:
    """Change what is needed after a step to what is before it; tell whether the step counts."""
    if step[0] == "set":
        bits = 1 if step[1] == BRANCH else needs.pop(step[1], 0)
        if not bits:
            return False
        _read(step[2], bits, needs)
        return True
    for part in step[1:]:
        if isinstance(part, tuple):
            _read(part, _WHOLE if step[0] != "store" or part is step[2] else 8 * step[1], needs)
    return True


def _read(e: Expr, bits: int, needs: Needs) -> None:
    """Note what an expression reads where only its low bits are needed."""
    operator = e[0]
    if bits <= 0 or operator in ("const", "undefined"):
        return
    if operator == "reg":
        needs[e[1]] = max(needs.get(e[1], 0), bits)
    elif operator in ("low", "sign"):
        _read(e[2], min(bits, e[1]), needs)
    elif operator == "and" and e[2][0] == "const":
        low = e[2][1] & ((1 << bits) - 1)
        _read(e[1], low.bit_length(), needs)
    elif operator in _BITWISE:
        for part in e[1:]:
            _read(part, bits, needs)
    elif operator == "left":
        _read(e[1], bits, needs)
        _read(e[2], _WHOLE, needs)
    elif operator == "choose":
        _read(e[1], _WHOLE, needs)
        _read(e[2], bits, needs)
        _read(e[3], bits, needs)
    else:
        for part in e[1:]:
            if isinstance(part, tuple):
                _read(part, _WHOLE, needs)


def pruned(steps: Sequence[Step], after: Mapping[str, int]) -> tuple[list[Step], Needs]:
    """Return the steps that matter where this is needed after them, and what they need."""
    needs = dict(after)
    kept = [step for step in reversed(steps) if before_step(step, needs)]
    return kept[::-1], needs


class Liveness:
    """What is needed behind each instruction of a function."""

    def __init__(self, body: Body, width: int) -> None:
        self.body = body
        self.steps = [steps_of(body, k, width) for k in range(len(body.items))]
        self.flags = evaluation_of(body.isa).flags

    @cached_property
    def entering(self) -> list[Needs]:
        """What each block needs when it begins."""
        body = self.body
        entering: list[Needs] = [{} for _ in body.leaders]
        before: list[list[int]] = [[] for _ in body.leaders]
        for block, goals in enumerate(body.next_blocks):
            for goal in goals:
                before[goal].append(block)
        todo = set(range(len(body.leaders)))
        while todo:
            block = max(todo)
            todo.discard(block)
            needs = self._through(block, body.bounds[block], self._leaving(block, entering))
            if needs != entering[block]:
                entering[block] = needs
                todo.update(before[block])
        return entering

    def leaving(self, block: int) -> Needs:
        """Return what the blocks after one need."""
        return self._leaving(block, self.entering)

    def _leaving(self, block: int, entering: Sequence[Needs]) -> Needs:
        out: Needs = {}
        for goal in self.body.next_blocks[block]:
            for name, bits in entering[goal].items():
                if bits > out.get(name, 0):
                    out[name] = bits
        return out

    def behind(self, block: int, k: int) -> Needs:
        """Return what is needed behind instruction ``k`` of a block."""
        return self._through(block, k + 1, self.leaving(block))

    def _through(self, block: int, first: int, needs: Needs) -> Needs:
        for k in range(self.body.bounds[block + 1] - 1, first - 1, -1):
            steps = self.steps[k]
            if steps is None:
                self._opaque(k, needs)
            else:
                for step in reversed(steps):
                    before_step(step, needs)
        return {name: bits for name, bits in needs.items() if name[0] != "%"}

    def _opaque(self, k: int, needs: Needs) -> None:
        """Go back over an instruction of which only the registers are known."""
        body, kind = self.body, self.body.effects[k].kind
        abi, item = body.arch.abi, body.items[k]
        reads, writes = read_and_written(item.mnemonic, item.operands, body.isa)
        if kind == b.CALL:
            writes |= abi.clobbered | set(self.flags)
            helps = item.operands and item.operands[-1].lstrip("_") != item.operands[-1]
            reads |= abi.parameters | abi.stack | (abi.clobbered if helps else frozenset())
        elif kind == b.RETURN or body.leaves(k):
            needs.clear()
            reads |= abi.results | abi.stack | self._saved | self._left_unread(k)
            reads |= abi.parameters if kind != b.RETURN else frozenset()
        else:
            reads |= set(self.flags)  # it may
        for name in writes:
            needs.pop(name, None)
        for name in reads:
            needs[name] = _WHOLE

    @cached_property
    def _saved(self) -> set[str]:
        """The registers that the function names and a caller expects back as they were."""
        named = {f for done in self.body.items for f in _families(self.body, done.operands)}
        return named - self.body.arch.abi.clobbered

    def _left_unread(self, k: int) -> frozenset[str]:
        """Return registers written before a return, in its block, that nothing reads any more.

        Code that is made with care leaves nothing so but results, of which some take several
        registers.
        """
        body = self.body
        read: set[str] = set()
        out: set[str] = set()
        for at in range(k - 1, body.bounds[body.block_of[k]] - 1, -1):
            item = body.items[at]
            if body.effects[at].kind == b.CALL:
                break
            reads, writes = read_and_written(item.mnemonic, item.operands, body.isa)
            out |= (writes & _families(body, item.operands)) - read
            read |= reads | writes
        return frozenset(out)


def _families(body: Body, operands: Sequence[str]) -> set[str]:
    syntax = body.arch.syntax
    return {syntax.family(name)[0] for text in operands for name in syntax.register.findall(text)}
