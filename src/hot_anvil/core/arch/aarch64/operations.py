"""What AArch64's integer instructions compute (Arm ARM, C6), in the common language."""

import re
from functools import lru_cache

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.aarch64.calculating import (
    arithmetic,
    bit_field,
    changed_if,
    chosen,
    compared,
    conditionally_compared,
    divided,
    extension,
    flag_set,
    high,
    insertion,
    joined,
    logic,
    long_product,
    moved,
    moved_wide,
    negated,
    negative,
    of_one,
    page,
    plus_one,
    shift_by,
    sum_of_product,
    tested,
    turned_bytes,
)
from hot_anvil.core.arch.aarch64.operands import (
    BITS,
    PLACE,
    REGISTER,
    Operands,
    Rule,
    assign,
    changed_by,
    number,
    value_of,
    width_of,
)
from hot_anvil.core.arch.aarch64.syntax import family_of
from hot_anvil.core.arch.arm.conditions import (
    CONDITIONS,
    FLAGS,
)
from hot_anvil.core.arch.operations import (
    Expr,
    NotEvaluableError,
    Steps,
    Writer,
    add,
    bit,
    both,
    const,
    either,
    invert,
    is_zero,
    opposite,
    reg,
    right,
    sign,
    sub,
    xor,
)

_RULES: dict[str, Rule] = {
    "add": arithmetic(False), "adds": arithmetic(False, True), "sub": arithmetic(True),
    "subs": arithmetic(True, True), "adc": arithmetic(False, carry=True),
    "adcs": arithmetic(False, True, True), "sbc": arithmetic(True, carry=True),
    "sbcs": arithmetic(True, True, True), "cmp": compared(True), "cmn": compared(False),
    "and": logic(both), "ands": logic(both, True), "orr": logic(either), "eor": logic(xor),
    "bic": logic(lambda a, b: both(a, invert(b))),
    "bics": logic(lambda a, b: both(a, invert(b)), True),
    "orn": logic(lambda a, b: either(a, invert(b))),
    "eon": logic(lambda a, b: xor(a, invert(b))), "tst": tested,
    "mvn": of_one(lambda a, _: invert(a)), "neg": negated(False), "negs": negated(True),
    "lsl": shift_by("lsl"), "lsr": shift_by("lsr"), "asr": shift_by("asr"), "ror": shift_by("ror"),
    "lslv": shift_by("lsl"), "lsrv": shift_by("lsr"),
    "asrv": shift_by("asr"), "rorv": shift_by("ror"),
    "mul": sum_of_product(False, False), "mneg": sum_of_product(True, False),
    "madd": sum_of_product(False), "msub": sum_of_product(True),
    "smull": long_product(True), "umull": long_product(False),
    "smaddl": long_product(True, addend=True), "umaddl": long_product(False, addend=True),
    "smsubl": long_product(True, True, True), "umsubl": long_product(False, True, True),
    "smnegl": long_product(True, True), "umnegl": long_product(False, True),
    "smulh": high("high signed"), "umulh": high("high unsigned"),
    "sdiv": divided("quotient signed"), "udiv": divided("quotient unsigned"),
    "ubfx": bit_field(False, False), "sbfx": bit_field(True, False),
    "ubfiz": bit_field(False, True), "sbfiz": bit_field(True, True),
    "bfi": insertion(False), "bfxil": insertion(True),
    "extr": joined, "csel": chosen(lambda e: e), "csinc": chosen(plus_one),
    "csinv": chosen(invert), "csneg": chosen(negative), "cinc": changed_if(plus_one),
    "cinv": changed_if(invert), "cneg": changed_if(negative), "cset": flag_set(False),
    "csetm": flag_set(True), "mov": moved, "movz": moved_wide(False, False),
    "movn": moved_wide(False, True), "movk": moved_wide(True, False), "adrp": page,
    "adr": lambda out, own: assign(out, own.texts[0], const(o.place(own.texts[1]))),
    "clz": of_one(lambda a, w: sub(("leading zeros", a), const(64 - w))),
    "rbit": of_one(lambda a, w: right(("reversed bits", a), const(64 - w))),
    "rev": of_one(turned_bytes(0)), "rev16": of_one(turned_bytes(16)),
    "rev32": of_one(turned_bytes(32)),
    "ccmp": conditionally_compared(True), "ccmn": conditionally_compared(False),
} | {
    f"{s}xt{b}": extension(BITS[b], s == "s") for s in "su" for b in "bhw"
}  # fmt: skip


def _address(texts: tuple[str, ...]) -> tuple[Expr, str, Expr | None]:
    """Return (address, base to move, what it becomes) of the memory that operands name."""
    found = PLACE.fullmatch(texts[0])
    if not found or len(texts) > 2:
        raise NotEvaluableError(",".join(texts))
    base, inside, before = family_of(found[1])[0], found[2] or "", found[3]
    by: Expr = const(0)
    if inside:
        first, _, how = inside.partition(",")
        if REGISTER.fullmatch(first):
            by = value_of(first, 64)
            by = changed_by(by, how, 64) if how else by
        else:
            by = const(number(first))
    whole = add(reg(base), by)
    if before:
        return whole, base, whole
    if len(texts) == 2:
        return reg(base), base, add(reg(base), const(number(texts[1])))
    return whole, "", None


def _moved_memory(out: Writer, mnemonic: str, texts: tuple[str, ...]) -> None:
    pair = mnemonic in ("ldp", "stp", "ldpsw", "ldnp", "stnp")
    registers, rest = texts[: 1 + pair], texts[1 + pair :]
    width = width_of(registers[0])
    at, base, becomes = _address(rest)
    at = out.hold(at)
    after = out.hold(becomes) if becomes else None
    signed = mnemonic == "ldpsw" or mnemonic[3:4] == "s" or mnemonic[4:5] == "s"
    size = mnemonic[-1] if mnemonic[-1] in "bhw" else ""
    count = {"b": 1, "h": 2, "w": 4, "": width // 8}[size]
    values = []
    for k, text in enumerate(registers):
        where = add(at, const(k * count)) if k else at
        if mnemonic.startswith("st"):
            out.store(count, where, value_of(text, width))
        else:
            e: Expr = ("load", count, where)
            values.append((text, out.hold(sign(8 * count, e) if signed else e)))
    for text, value in values:
        assign(out, text, value)
    if after:
        out.set(base, after)


@lru_cache(maxsize=1 << 16)
def operations(mnemonic: str, operands: tuple[str, ...], width: int = 64) -> Steps:
    """Return the steps of an instruction; raises NotEvaluableError for what has none."""
    out = Writer()
    texts = tuple(text.replace(" ", "") for text in operands)
    if mnemonic in ("nop", "b", "bti", "prfm"):
        return ()
    try:
        _write_one(out, mnemonic, texts)
    except (KeyError, IndexError, ValueError):
        raise NotEvaluableError(mnemonic) from None
    return tuple(out.steps)


def _write_one(out: Writer, mnemonic: str, texts: tuple[str, ...]) -> None:
    code = mnemonic[1:].lstrip(".")
    if mnemonic[0] == "b" and code in CONDITIONS and len(texts) == 1:
        out.set(o.BRANCH, CONDITIONS[code])
    elif mnemonic in ("cbz", "cbnz"):
        zero = is_zero(value_of(texts[0], width_of(texts[0])))
        out.set(o.BRANCH, zero if mnemonic == "cbz" else opposite(zero))
    elif mnemonic in ("tbz", "tbnz"):
        one = bit(value_of(texts[0], 64), number(texts[1]))
        out.set(o.BRANCH, one if mnemonic == "tbnz" else opposite(one))
    elif re.fullmatch(r"(?:ld|st)(?:u?r(?:s?[bhw])?|n?p|psw)", mnemonic):
        _moved_memory(out, mnemonic, texts)
    else:
        _RULES[mnemonic](out, Operands(texts))


EVALUATION = o.Evaluation(operations, (64,), FLAGS)
