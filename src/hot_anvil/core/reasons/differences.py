"""What differs between two instructions that stand for each other, in words; never that they agree.

Used where an edit, or another function, makes one instruction stand in the place of another: the
words say what each of the two does, which is read from the instructions themselves.
"""

from collections import Counter
from collections.abc import Iterable, Sequence

from hot_anvil.core.arch import evaluation_of
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.operations import BRANCH, Expr
from hot_anvil.core.arch.semantics import Effect
from hot_anvil.core.evaluate.liveness import steps_of
from hot_anvil.core.model.control_flow import Body
from hot_anvil.core.model.function import FunctionModel

OPERATION, DATA, WIDER, CONDITION = (
    "other operation", "other constant", "operation width", "other condition",
)  # fmt: skip
_MOST_WORDS = 4  # operations in one sentence
_VERBS = {
    "add": "adds", "sub": "subtracts", "mul": "multiplies", "and": "keeps bits",
    "or": "sets bits", "exclusive or": "turns bits over", "not": "turns all bits over",
    "left": "shifts left", "right": "shifts right, zeros coming in",
    "arithmetic right": "shifts right, the sign coming in", "sign": "extends the sign",
    "low": "extends by zeros", "choose": "chooses", "high signed": "multiplies, the upper half",
    "high unsigned": "multiplies, the upper half, unsigned",
    "reversed bytes": "turns the bytes round", "ones": "counts bits",
    "leading zeros": "counts leading zeros", "trailing zeros": "counts trailing zeros",
}  # fmt: skip
_ROTATES = "rotates"
# What takes several instructions where there is not one for it.
IDIOMS = frozenset(
    (_ROTATES, *(_VERBS[op] for op in
     ("reversed bytes", "ones", "leading zeros", "trailing zeros")))
)  # fmt: skip
_WORDS = {
    "eq": "equal", "ne": "not equal", "lt": "less", "le": "less or equal", "gt": "greater",
    "ge": "greater or equal", "ult": "below, unsigned", "ule": "below or equal, unsigned",
    "ugt": "above, unsigned", "uge": "above or equal, unsigned", "s": "negative",
    "ns": "not negative", "mi": "negative", "pl": "not negative",
}  # fmt: skip


def difference(left: FunctionModel, right: FunctionModel, i: int, j: int) -> tuple[str, str] | None:
    """Return (kind, text) of how two instructions differ, None where no words fit."""
    one, other = left.effects[i], right.effects[j]
    if one.condition != other.condition and one.kind == other.kind:
        words = [_WORDS.get(done.condition, done.condition) for done in (one, other)]
        return CONDITION, f"the condition is '{words[1]}' instead of '{words[0]}'"
    if one.kind == b.CALL or other.kind == b.CALL:
        return None
    names = [side.body.items[k].mnemonic for side, k in ((left, i), (right, j))]
    if names[0] == names[1]:
        return _by_operands(one, other)
    verbs = [verb(side.body, k) for side, k in ((left, i), (right, j))]
    if one.bits and other.bits and one.bits != other.bits and verbs[0] == verbs[1]:
        return WIDER, f"{other.bits} bits wide instead of {one.bits}"
    return None


def operations_differ(
    left: FunctionModel, right: FunctionModel, mine: Sequence[int], theirs: Sequence[int]
) -> tuple[str, list[int], list[int]] | None:
    """Say which operations only one side's instructions do, with them; None where no words fit."""
    done = [[(verb(side.body, k), k) for k in own] for side, own in ((left, mine), (right, theirs))]
    counts = [Counter(word for word, _ in own if word) for own in done]
    gone, new = counts[0] - counts[1], counts[1] - counts[0]
    if (not gone and not new) or len(gone) + len(new) > _MOST_WORDS:
        return None
    if gone and new:
        text = f"it {_joined(new)} instead of {_joined(gone)}"
    else:
        text = f"it also {_joined(new)}" if new else f"it no longer {_joined(gone)}"
    return (
        text,
        [k for word, k in done[0] if word in gone],
        [k for word, k in done[1] if word in new],
    )


def _joined(words: Iterable[str]) -> str:
    return " and ".join(sorted(words))


def _by_operands(one: Effect, other: Effect) -> tuple[str, str] | None:
    """Say how operands of one mnemonic differ, as far as they are numbers."""
    alike = one._replace(immediate=None, memory=None) == other._replace(immediate=None, memory=None)
    if not alike:
        return None
    if one.immediate != other.immediate and None not in (one.immediate, other.immediate):
        return DATA, f"another constant: {other.immediate} instead of {one.immediate}"
    was, now = one.memory or b.Memory(), other.memory or b.Memory()
    if was.symbol != now.symbol and was.symbol and now.symbol:
        return DATA, f"another variable: {now.symbol} instead of {was.symbol}"
    if was.offset != now.offset:
        return DATA, f"another offset: {now.offset} instead of {was.offset}"
    return None


def verb(body: Body, k: int) -> str:
    """Return what an instruction does to its result, in words, "" where that is not known."""
    evaluation = evaluation_of(body.isa)
    held: dict[str, Expr] = {}
    result: Expr | None = None
    steps = steps_of(body, k, evaluation.widths[0])
    if steps is None:
        return _by_name(body, k)
    for step in steps:
        if step[0] == "set" and step[1][0] == "%":
            held[step[1]] = step[2]
        elif step[0] == "set" and step[1] not in (*evaluation.flags, BRANCH):
            result = result or step[2]  # of two the lower half
        elif step[0] == "store":
            result = step[3]
    return _verb_of(result, held) if result else ""


def _by_name(body: Body, k: int) -> str:
    """Return what an instruction that cannot be evaluated does, by its kind and mnemonic."""
    done = body.effects[k]
    return f"does {body.items[k].mnemonic}" if done.kind in b.ARITHMETIC | {b.CONVERT} else ""


def _verb_of(e: Expr, held: dict[str, Expr]) -> str:
    extended = ""
    for _ in range(12):
        if e[0] == "reg" and e[1] in held:
            e = held[e[1]]
        elif e[0] in ("low", "sign"):
            extended = extended or ("sign" if e[0] == "sign" else "")
            e = e[2]
        elif e[0] == "or" and e[1][0] == "and" and e[1][2][0] == "const":
            e = e[2]  # a part of a register is replaced
        else:
            break
    if e[0] == "or" and (e[1][0], e[2][0]) == ("left", "right") and e[1][1] == e[2][1]:
        return _ROTATES
    if e[0] == "right" and e[1][0] == "reversed bytes":
        e = e[1]
    if e[0] == "sub" and e[1][0] in ("leading zeros", "trailing zeros"):
        e = e[1]
    if e[0] in ("divided", "quotient"):
        what, _, sign = e[1].partition(" ")
        name = "divides" if what == "quotient" else "takes the remainder"
        return f"{name}, {sign}"
    if e[0] == "or" and e[2][0] == "left" and e[2][1][0] == "reg" and e[1][0] == "reg":
        return ""  # two registers taken together
    if e[0] in ("reg", "const", "load"):
        return _VERBS["sign"] if extended else ""
    return _VERBS.get(e[0], "")
