"""AArch64."""

import re
from functools import lru_cache

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.aarch64.syntax import family_of
from hot_anvil.core.arch.records import NEVER, Semantics
from hot_anvil.core.arch.semantics import BOTH, DEFINE, USE, Effect, Kind, Memory, Role
from hot_anvil.core.arch.values import computed, constants, nothing_hard, plain_bytes

_KIND = b.kind_table(
    {
        b.ATOMIC: r"ld(?:ax|x)[rp]\w*|st(?:lx|x)[rp]\w*|ld(?:add|clr|set|eor|smax|smin"
        r"|umax|umin)\w*"
        r"|st(?:add|clr|set|eor|smax|umax)l?[bh]?|swpa?l?[bh]?|casp?a?l?[bh]?|lda(?:p?u?r)[bh]?"
        r"|stlu?r[bh]?",
        "load": r"ld[u]?r(?:s[bhw]|[bh])?|ldu?rsw|ldn?p|ldpsw|ld[1234]r?\w*|ldtr\w*|ldf?f?1\w+",
        "store": r"stu?r[bh]?|stn?p|st[1234]\w*|sttr\w*",
        b.MOVE: "mov|fmov|movi|mvni|movz|movn|movk|dup|umov|smov|ins|cpy|orr_move|movprfx",
        b.EXTEND: r"[su]xt[bhwl]2?|[su]shll2?|[su]xtl2?|[su]unpk(?:lo|hi)|xtn2?|[su]qxtu?n2?|abs",
        b.CONVERT: r"[su]cvtf|fcvt\w*|frint\w",
        b.ADDRESS: "adrp?",
        b.FMA: r"fn?m(?:add|sub)|fml[as]l?2?|fnml[as]|fmad|fmsb",
        b.FADD: r"fadd[pv]?|fsub|fadda|fabd",
        b.FMUL: r"fn?mul|fmulx|frecp\w|frsqrt\w",
        b.FDIV: r"fdivr?",
        b.FSQRT: "fsqrt",
        b.MINMAX: r"f(?:min|max)(?:nm)?[pv]?|[su](?:min|max)[pv]?",
        b.MULHIGH: r"[su]mulh",
        b.MUL: r"mul|madd|msub|mneg|[su]mull2?|[su]madd?l|[su]msubl|[su]mnegl|ml[as]|mad|msb"
        r"|[su]ml[as]l2?|pmull2?|sq\w*mul\w*|[su]dot|mls",
        b.DIV: r"[su]divr?",
        b.ADD: r"adds?|adcs?|addp|[su]?addl?v|[su]addw2?|[su]addl2?p?|[su]adalp|[su]qadd|[su]r?hadd"
        r"|addhn2?|inc[bhwdp]|usra|ssra",
        b.SUB: r"subs?|sbcs?|negs?|ngcs?|[su]subl2?|[su]subw2?|[su]qsub|[su]ab[da]l?2?|dec[bhwdp]"
        r"|neg",
        b.SHIFT: r"[al]s[lr]v?|rorv?|[su]bfx|[su]bfiz|bfi|bfxil|bfc|extr|[su]?r?shl"
        r"|[su]r?shr|shrn2?"
        r"|[su]q?r?shrn2?|sli|sri|shll2?|bfm|[su]bfm",
        b.LOGIC: r"ands?|orr|eor|bics?|orn|eon|mvn|not|clz|cls|rbit|rev\d*|cnt|bsl|bit"
        r"|bif|bcax|eor3"
        r"|addg",
        b.COMPARE: r"cmp|cmn|tst|ccmp|ccmn|fcmpe?|fccmpe?|cm(?:eq|gt|ge|hi|hs|le|lt|tst)|fcm\w+"
        r"|facg[et]|cmp(?:eq|ne|gt|ge|hi|hs|le|lt|lo|ls)|ptest|while\w\w",
        b.BRANCH: r"b\.?(?:eq|ne|cs|cc|mi|pl|vs|vc|hi|ls|ge|lt|gt|le|hs|lo|al|any|none|first|last"
        r"|nfrst|nlast)|cbn?z|tbn?z",
        b.SELECT: r"csel|csinc|csinv|csneg|cinc|cinv|cneg|fcsel|sel",
        b.SET: "csetm?",
        b.JUMP: "br?|braa|brab",
        b.CALL: r"blr?(?:a[ab]z?)?",
        b.RETURN: "ret(?:a[ab])?",
        b.LANDING: r"bti|paci[ab]sp|auti[ab]sp|paci[ab]z|hint|xpaclri",
        b.TRAP: "brk|udf|hlt",
        b.FENCE: "dmb|dsb|isb|clrex",
        b.NOTHING: "nop|prfm|yield",
        b.SHUFFLE: r"zip[12]|uzp[12]|trn[12]|ext|tb[lx]|rev|ptrue|pfalse|punpk\w+|splice"
        r"|index|cnt[bhwd]",
    }
)
CONDITIONS = {
    "eq": "eq", "ne": "ne", "lt": "lt", "le": "le", "gt": "gt", "ge": "ge", "cc": "ult",
    "lo": "ult", "ls": "ule", "hi": "ugt", "cs": "uge", "hs": "uge",
}  # fmt: skip
_PLACE = re.compile(r"\[(\w+)(?:, ?([^\]]*))?\](!?)")
_LANES = re.compile(r"(?:v\d+\.(\d+)|z\d+\.)([bhsdq])\b")
_ELEMENT = {"b": 8, "h": 16, "s": 32, "d": 64, "q": 128}
_FLOAT = frozenset((b.FADD, b.FMUL, b.FDIV, b.FSQRT, b.FMA))


def memory_of(operand: str) -> Memory | None:
    """Return the memory that an operand such as ``[x0, w1, sxtw 2]`` names."""
    found = _PLACE.match(operand)
    if not found:
        return None
    inside = found[2] or ""
    register = re.match(r"[wx]\d+|[wx]zr", inside)
    offset = b.number(inside) if inside and not register else 0
    return Memory(
        family_of(found[1])[0],
        family_of(register[0])[0] if register else "",
        inside if offset is None else "",
        offset or 0,
    )


def _split(operands: tuple[str, ...]) -> tuple[tuple[str, ...], str]:
    """Split the operands from the memory among them."""
    for index, operand in enumerate(operands):
        if operand.startswith("["):
            return operands[:index], operand
    return operands, ""


@lru_cache(maxsize=65536)
def effect(mnemonic: str, operands: tuple[str, ...]) -> Effect:
    """Return what an instruction does."""
    kind = _KIND(mnemonic)
    last = operands[-1] if operands else ""
    if kind in (b.BRANCH, b.JUMP, b.CALL):
        indirect = kind != b.BRANCH and mnemonic not in ("b", "bl")
        target = "" if indirect else last
        return Effect(kind, condition=_branch(mnemonic), target=target, indirect=indirect)
    _, place = _split(operands)
    memory = memory_of(place) if place else None
    if kind in ("load", "store"):
        bits, lanes, element = _lanes(operands, mnemonic)
        made = Effect(b.MOVE, bits, lanes, element, memory=memory or Memory(symbol=last))
        signed = "signed" if "rs" in mnemonic else ""
        width = 128 if lanes == 0 else max(bits * lanes, 0) if lanes != 1 else 0
        loads, stores = kind == "load", kind == "store"
        return made._replace(loads=loads, stores=stores, signed=signed, width=width)
    if kind == b.ATOMIC:
        changes = mnemonic.startswith("cas") or _FETCHES.match(mnemonic) is not None
        stored = mnemonic.startswith("st")
        return Effect(kind, memory=memory, loads=not stored, stores=stored or changes)
    bits, lanes, element = _lanes(operands, mnemonic)
    if kind in _FLOAT or (kind in (b.MINMAX, b.COMPARE) and mnemonic[0] == "f"):
        element = "f"
    value = b.number(last)
    if kind == b.MOVE and len(operands) == 2 and (value is not None or last in ("wzr", "xzr")):
        return Effect(b.CONSTANT, bits, lanes, element, immediate=value or 0)
    kind = b.CONSTANT if mnemonic in ("movk", "movi", "movz", "movn") else kind
    condition = CONDITIONS.get(last, last) if kind in (b.SELECT, b.SET) else ""
    across = mnemonic in ("addv", "addp", "faddp") or mnemonic.endswith(("lv", "maxv", "minv"))
    return Effect(
        kind, bits, lanes, element, condition=condition, immediate=value,
        signed=_signed(mnemonic, kind), across=across,
        width=bits * lanes if lanes > 1 else 0,
    )  # fmt: skip


def _branch(mnemonic: str) -> str:
    if mnemonic.startswith(("cb", "tb")):
        return "ne" if "nz" in mnemonic else "eq"
    code = mnemonic[1:].lstrip(".")
    return CONDITIONS.get(code, code)


def _signed(mnemonic: str, kind: Kind) -> str:
    if kind == b.SHIFT:
        return (
            {"a": "signed", "l": "unsigned"}.get(mnemonic[0], "") if mnemonic[1:3] == "sr" else ""
        )
    if kind in (b.EXTEND, b.DIV, b.MULHIGH):
        return {"s": "signed", "u": "unsigned"}.get(mnemonic[0], "")
    return ""


def _lanes(operands: tuple[str, ...], mnemonic: str) -> tuple[int, int, str]:
    """Return (bits of an element, lanes, element)."""
    for operand in operands:
        found = _LANES.search(operand)
        if found:
            bits = _ELEMENT[found[2]]
            return bits, int(found[1]) if found[1] else b.SCALABLE, "i"
    first = operands[0][:1] if operands else ""
    if first in "bhsdq" and re.match(r"[bhsdq]\d", operands[0] if operands else ""):
        if first == "q":
            return 0, 0, ""
        return _ELEMENT[first], 1, "f"
    return {"w": 32, "x": 64}.get(first, 0), 1, ""


_PREDICATE = re.compile(r"p\d+(?:/|$)")
# A register holds the outcome of the comparison.
_COMPARES_INTO = re.compile(r"cm[^pn]|fac|fcm(?!pe?$)|cmp[a-z]|while")
_FETCHES = re.compile(r"swp|ld(?:add|clr|eor|set|[su]max|[su]min)")
_STATUS = re.compile(r"stl?x")
# What is in the destination before takes part.
_KEEPS = re.compile(
    r"movk|bfi|bfxil|bfc|ins|bsl|bit|bif|f?ml[as]|f?ml[as]l[bt]?2?|fc?mla|fn?ml[as]|[su]ml[as]l2?"
    r"|sqdml[as]l2?|sqrdml[as]h|[su]r?sra|sli|sri|[su]aba(?:l2?)?|[su]adalp|[su]u?dot"
    r"|u?[su]mmla|bfdot|bfmmla|tbx|[us]{2}qadd|aes[ed]|sha\w+|\w*n2|fcmla|inc[bhwd]|dec[bhwd]"
)


@lru_cache(maxsize=65536)
def roles(mnemonic: str, operands: tuple[str, ...]) -> tuple[Role, ...]:
    """Return what happens to the registers of each operand."""
    kind = _KIND(mnemonic)
    if kind in (b.BRANCH, b.JUMP, b.CALL, b.RETURN) or not operands:
        return (USE,) * len(operands)
    registers, place = _split(operands)
    moved = "]!" in place or (bool(place) and not operands[-1].startswith("["))
    rest = [BOTH if moved else USE] * (len(operands) - len(registers))
    if kind == "store":
        return (*([USE] * len(registers)), *rest)
    if kind == "load":
        return (*(USE if _PREDICATE.match(o) else DEFINE for o in registers), *rest)
    if kind == b.COMPARE and not _COMPARES_INTO.match(mnemonic):
        return (USE,) * len(operands)
    if kind == b.ATOMIC:
        return (*_atomic_roles(mnemonic, len(registers)), *rest)
    keeps = _KEEPS.fullmatch(mnemonic) or "[" in operands[0] or "/m" in "".join(operands[1:2])
    return (BOTH if keeps else DEFINE, *([USE] * (len(operands) - 1)))


def _atomic_roles(mnemonic: str, registers: int) -> tuple[Role, ...]:
    """Return what an access that other processors see at once does to its registers."""
    if mnemonic.startswith("cas"):  # what is expected, which becomes what was found; what to store
        return (BOTH,) * (registers // 2) + (USE,) * (registers - registers // 2)
    if _FETCHES.match(mnemonic):
        return (USE, DEFINE)[:registers]
    if _STATUS.match(mnemonic):
        return (DEFINE, *([USE] * (registers - 1)))
    return ((USE if mnemonic.startswith("st") else DEFINE),) * registers


_SCALE = re.compile(r"(?:lsl|uxtw|sxtw|sxtx) ?#?(\d)\]")
_BEFORE = re.compile(r"\[\w+, ?#?(-?\d+)\]!")  # the base moves before the access


@lru_cache(maxsize=1 << 15)
def scale(operands: tuple[str, ...]) -> int:
    """Return what the index of a memory operand is multiplied by."""
    return next((1 << int(found[1]) for o in operands if (found := _SCALE.search(o))), 1)


def writeback(operands: tuple[str, ...], done: Effect) -> tuple[int, int]:
    """Return by how much an access moves its base register, before it and after it."""
    for index, operand in enumerate(operands):
        found = _BEFORE.search(operand)
        if found:
            return int(found[1]), 0
        if operand.startswith("[") and index + 1 < len(operands):
            return 0, b.number(operands[index + 1]) or 0
    return 0, 0


def access_bytes(mnemonic: str, done: Effect) -> int:
    """Return how many bytes an instruction loads or stores."""
    small = re.match(r"(?:ldu?r|stu?r)s?([bh])", mnemonic)
    if small:
        return 1 if small[1] == "b" else 2
    if mnemonic.startswith("ldrsw"):
        return 4
    both = 2 if re.match(r"ld[n]?p|st[n]?p|ldrd|strd", mnemonic) else 1
    return both * plain_bytes(mnemonic, done)


def set_by_parts(
    value: int | None, mnemonic: str, operands: tuple[str, ...], before: int
) -> int | None:
    """Return what a move of a constant leaves: all of it, 16 bits of it, or its complement.

    ``value`` is what the last operand says, None where that is no number, such as a shift.
    """
    if mnemonic in ("movk", "movt", "movz", "movw"):
        shift = re.search(r"lsl #?(\d+)", " ".join(operands))
        by = int(shift[1]) if shift else 16 if mnemonic == "movt" else 0
        part = b.number(operands[1]) if len(operands) > 1 else None
        if part is None:
            return None
        old = before if mnemonic in ("movk", "movt") else 0
        return (old & ~(0xFFFF << by)) | part << by
    if value is None:
        return None
    return ~value if mnemonic == "movn" or mnemonic.startswith("mvn") else value


def _constant(mnemonic: str, operands: tuple[str, ...], before: int) -> int | None:
    value = constants(effect, ("wzr", "xzr"))(mnemonic, operands, before)
    return set_by_parts(value, mnemonic, operands, before)


SEMANTICS = Semantics(
    effect=effect,
    roles=roles,
    hard_writes=nothing_hard,
    zero=frozenset(("zr",)),
    constant=_constant,
    computed=computed,
    scale=scale,
    writeback=writeback,
    access_bytes=access_bytes,
    pairs=re.compile("ldn?p|stn?p"),
    carry=re.compile("adc|sbc|rsc"),
    flag_selects=NEVER,
    scaled=re.compile(r"lsl |uxtw |sxtw |,lsl"),
    bit_tests=NEVER,
    narrow=False,
    atomic_names_tell=True,
)
