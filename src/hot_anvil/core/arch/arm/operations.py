"""What the integer instructions of 32-bit ARM and Thumb compute (Arm ARM for v7, A8).

A predicated instruction does nothing where its condition does not hold; the flags of an immediate
that has to be rotated are left open.
"""

import re
from functools import lru_cache

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.arm.calculating import (
    arithmetic,
    bit_field,
    bytes_turned,
    compared,
    divided,
    extension,
    half_product,
    halves_turned,
    high_product,
    insertion,
    logic,
    long_product,
    move_top,
    moved,
    multiplied,
    of_one,
    shifts,
    sum_of_product,
)
from hot_anvil.core.arch.arm.conditions import CONDITIONS, FLAGS
from hot_anvil.core.arch.arm.operands import PLACE, Operands, Rule, assign, changed_by, value_of
from hot_anvil.core.arch.arm.syntax import family_of
from hot_anvil.core.arch.operations import (
    Expr,
    NotEvaluableError,
    Step,
    Steps,
    Writer,
    add,
    both,
    choose,
    const,
    either,
    invert,
    is_zero,
    low,
    opposite,
    reg,
    right,
    sign,
    sub,
    xor,
)

_RULES: dict[str, Rule] = {
    "add": arithmetic(False), "sub": arithmetic(True), "rsb": arithmetic(True, True),
    "adc": arithmetic(False, carry=True), "sbc": arithmetic(True, carry=True),
    "rsc": arithmetic(True, True, True), "cmp": compared(True), "cmn": compared(False),
    "and": logic(both), "orr": logic(either), "eor": logic(xor),
    "bic": logic(lambda a, b: both(a, invert(b))),
    "orn": logic(lambda a, b: either(a, invert(b))),
    "tst": logic(both, False), "teq": logic(xor, False), "mov": moved(False),
    "mvn": moved(True), "movw": moved(False), "movt": move_top, "lsl": shifts("lsl"),
    "lsr": shifts("lsr"), "asr": shifts("asr"), "ror": shifts("ror"), "mul": multiplied,
    "mla": sum_of_product(False), "mls": sum_of_product(True),
    "umull": long_product(False, False), "smull": long_product(True, False),
    "umlal": long_product(False, True), "smlal": long_product(True, True),
    "smmul": high_product, "sdiv": divided("quotient signed"),
    "udiv": divided("quotient unsigned"), "ubfx": bit_field(False), "sbfx": bit_field(True),
    "bfi": insertion, "bfc": insertion,
    "clz": of_one(lambda a: sub(("leading zeros", a), const(32))),
    "rbit": of_one(lambda a: right(("reversed bits", a), const(32))),
    "rev": of_one(bytes_turned), "rev16": of_one(halves_turned),
    "revsh": of_one(lambda a: sign(16, halves_turned(a))),
    "addw": arithmetic(False), "subw": arithmetic(True),
} | {
    f"{s}xt{a}{b}": extension(8 if b == "b" else 16, s == "s", bool(a))
    for s in "su" for b in "bh" for a in ("", "a")
} | {
    f"sm{name}{x}{y}": half_product(x, y, adds)
    for name, adds in (("ul", False), ("la", True)) for x in "bt" for y in "bt"
}  # fmt: skip


_NEGATED = {"neg": "rsb"}


_CODES = "eq|ne|cs|cc|mi|pl|vs|vc|hi|ls|ge|lt|gt|le|hs|lo|al"


_CONDITIONAL = re.compile(rf"(\w+?)({_CODES})")


_MEMORY = re.compile(r"(ld|st)r(s?[bh]|d)?")


_QUIET = re.compile(r"nop|b|it[te]*|pld")


def _split(mnemonic: str) -> tuple[str, bool, str]:
    """Return (base, sets flags, condition) of a mnemonic."""
    plain = re.sub(r"\.[nw]$", "", mnemonic)
    found = _CONDITIONAL.fullmatch(plain)
    for name, code in ((plain, ""), *(((found[1], found[2]),) if found else ())):
        for base, flags in ((name, False), (name[:-1] if name[-1:] == "s" else "", True)):
            if base in _RULES or base in _NEGATED or _MEMORY.fullmatch(base):
                return base, flags, code
            if base in ("push", "pop", "ldmia", "stmia", "ldm", "stm"):
                return base, False, code
    raise NotEvaluableError(mnemonic)


@lru_cache(maxsize=1 << 16)
def operations(mnemonic: str, operands: tuple[str, ...], width: int = 32) -> Steps:
    """Return the steps of an instruction; raises NotEvaluableError for what has none."""
    out = Writer()
    texts = tuple(text.replace(" ", "") for text in operands)
    plain = re.sub(r"\.[nw]$", "", mnemonic)
    if _QUIET.fullmatch(plain):
        return ()
    try:
        if plain in ("cbz", "cbnz"):
            zero = is_zero(value_of(texts[0]))
            out.set(o.BRANCH, zero if plain == "cbz" else opposite(zero))
        elif plain[0] == "b" and plain[1:] in CONDITIONS and len(texts) == 1:
            out.set(o.BRANCH, CONDITIONS[plain[1:]])
        else:
            base, flags, code = _split(mnemonic)
            _write_one(out, base, texts, flags)
            if code and code != "al":
                return tuple(_only_if(CONDITIONS[code], out.steps))
    except (KeyError, IndexError, ValueError):
        raise NotEvaluableError(mnemonic) from None
    return tuple(out.steps)


def _write_one(out: Writer, base: str, texts: tuple[str, ...], flags: bool) -> None:
    if base in ("push", "pop") or base.startswith(("ldm", "stm")):
        _several(out, base, texts)
    elif _MEMORY.fullmatch(base):
        _moved_memory(out, base, texts)
    elif base in _NEGATED:
        _RULES[_NEGATED[base]](out, Operands((*texts[:2], "0"), flags))
    else:
        _RULES[base](out, Operands(texts, flags))


def _only_if(condition: Expr, steps: list[Step]) -> list[Step]:
    """Return steps that change nothing where a condition does not hold."""
    out: list[Step] = [("set", "%if", condition)]
    held = reg("%if")
    for step in steps:
        if step[0] == "store":  # what is there is stored again
            old = ("load", step[1], step[2])
            out.append(("store", step[1], step[2], choose(held, step[3], old)))
        elif step[1].startswith("%"):
            out.append(step)
        else:
            out.append(("set", step[1], choose(held, step[2], reg(step[1]))))
    return out


def _address(texts: tuple[str, ...]) -> tuple[Expr, str, Expr | None]:
    """Return (address, base to move, what it becomes)."""
    found = PLACE.fullmatch(texts[0])
    if not found:
        if len(texts) == 1 and not texts[0].startswith("="):
            return const(o.place(texts[0], 32)), "", None
        raise NotEvaluableError(",".join(texts))
    base, before = family_of(found[1])[0], found[3]
    if base == "r15":
        raise NotEvaluableError("pc")
    parts = tuple(found[2].split(",")) if found[2] else texts[1:]
    by: Expr = const(0)
    if parts:
        minus = parts[0].startswith("-r")
        by = value_of(parts[0].lstrip("-") if minus else parts[0])
        by = changed_by(by, parts[1])[0] if len(parts) > 1 else by
        by = sub(const(0), by) if minus else by
    whole = low(32, add(reg(base), by))
    if before:
        return whole, base, whole
    return (reg(base), base, whole) if len(texts) > 1 else (whole, "", None)


def _moved_memory(out: Writer, base: str, texts: tuple[str, ...]) -> None:
    found = _MEMORY.fullmatch(base)
    assert found
    size = found[2] or ""
    pair = size == "d"
    at, moves, becomes = _address(texts[1 + pair :])
    at = out.hold(at)
    after = out.hold(becomes) if becomes else None
    count = {"b": 1, "h": 2}.get(size[-1:], 4)
    loaded = []
    for k, text in enumerate(texts[: 1 + pair]):
        where = low(32, add(at, const(4 * k))) if k else at
        if found[1] == "st":
            out.store(count, where, value_of(text))
        else:
            e: Expr = ("load", count, where)
            loaded.append((text, out.hold(sign(8 * count, e) if size.startswith("s") else e)))
    for text, value in loaded:
        assign(out, text, value)
    if after:
        out.set(moves, after)


def _several(out: Writer, base: str, texts: tuple[str, ...]) -> None:
    names = _listed(",".join(texts[-1:] if base in ("push", "pop") else texts[1:]))
    if base in ("push", "pop"):
        start, moves = "r13", True
    else:
        start, moves = family_of(texts[0].rstrip("!"))[0], texts[0].endswith("!")
    size = const(4 * len(names))
    first = out.hold(low(32, sub(reg(start), size)) if base == "push" else reg(start))
    loads = base in ("pop", "ldm", "ldmia")
    held = []
    for k, name in enumerate(names):
        where = low(32, add(first, const(4 * k)))
        if loads:
            held.append((name, out.hold(("load", 4, where))))
        else:
            out.store(4, where, value_of(name))
    for name, value in held:
        assign(out, name, value)
    if moves:
        out.set(start, first if base == "push" else low(32, add(first, size)))


def _listed(text: str) -> list[str]:
    """Return the registers of a list such as ``{r3, r4-r6, lr}``."""
    found = re.fullmatch(r"\{(.+)\}", text)
    if not found:
        raise NotEvaluableError(text)
    out: list[int] = []
    for part in found[1].split(","):
        ends = [int(family_of(name)[0][1:]) for name in part.split("-")]
        out += range(ends[0], ends[-1] + 1)
    return [f"r{n}" for n in sorted(out)]


EVALUATION = o.Evaluation(operations, (32,), FLAGS)
