"""32-bit ARM and Thumb."""

import re
from functools import lru_cache

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.aarch64.semantics import (
    CONDITIONS,
    access_bytes,
    scale,
    set_by_parts,
    writeback,
)
from hot_anvil.core.arch.arm.syntax import family_of
from hot_anvil.core.arch.records import NEVER, Semantics
from hot_anvil.core.arch.semantics import BOTH, DEFINE, USE, Effect, Kind, Memory, Role
from hot_anvil.core.arch.values import computed, constants, nothing_hard

_CODES = "eq|ne|cs|cc|mi|pl|vs|vc|hi|ls|ge|lt|gt|le|hs|lo"
_KIND = b.kind_table(
    {
        b.ATOMIC: r"ldrex\w*|strex\w*|lda\w*|stl\w*",
        "load": r"ldr(?:s?[bh]|d|t)?|ldm\w*|vldr\S*|vldm\w*|vld\d\S*",
        "store": r"str(?:[bh]|d|t)?|stm\w*|vstr\S*|vstm\w*|vst\d\S*",
        b.POP: r"v?pop(?:\.\d+)?",
        b.PUSH: r"v?push(?:\.\d+)?",
        b.MOVE: r"movs?|mvns?|vmov\S*|vdup\S*",
        b.CONSTANT: "mov[wt]",
        b.ADDRESS: "adr",
        b.EXTEND: r"[su]xt[bh](?:16)?|[su]xta[bh]|vmovl\S*",
        b.CONVERT: r"vcvt\S*",
        b.FMA: r"vfn?m[as]\.f\d+",
        b.FADD: r"v(?:add|sub)\.f\d+|vpadd\.f\d+",
        b.FMUL: r"vn?mul\.f\d+|vn?ml[as]\.f\d+",
        b.FDIV: r"vdiv\.f\d+",
        b.FSQRT: r"vsqrt\.f\d+",
        b.MINMAX: r"v(?:min|max)\S*",
        b.MULHIGH: r"[su]mull|smmulr?|[su]mlal|smmla",
        b.MUL: r"muls?|mla|mls|smul\w\w|smla\w\w|vmul\S*|vml[as]\S*|smlad|smuad",
        b.DIV: r"[su]div",
        b.ADD: r"add[sw]?|adcs?|vadd\S*|vpadd\S*|vpadal\S*|qadd|[su]xta[bh]",
        b.SUB: r"sub[sw]?|sbcs?|rsbs?|rscs?|negs?|vsub\S*|vneg\S*",
        b.SHIFT: r"[al]s[lr]s?|rors?|rrx|[su]bfx|bfi|bfc|vsh[lr]\S*|vrshr\S*",
        b.LOGIC: r"ands?|orrs?|eors?|bics?|orns?|clz|rbit|rev\d*|vand|vorr|veor|vbsl|vbit",
        b.COMPARE: r"cmp|cmn|tst|teq|vcmpe?\S*|vmrs|vc(?:eq|gt|ge)\S*",
        b.BRANCH: rf"b(?:{_CODES})(?:\.[nw])?|cbn?z",
        b.JUMP: r"b(?:\.[nw])?|bx|tb[bh]",
        b.CALL: "blx?",
        b.FENCE: "dmb|dsb|isb",
        b.TRAP: "udf|bkpt",
        b.NOTHING: r"nop(?:\.[nw])?|it[te]*|pld",
        b.SHUFFLE: r"vext\S*|vzip\S*|vuzp\S*|vtrn\S*|vtbl\S*|vrev\S*",
    }
)
_CONDITIONAL = re.compile(rf"([a-z]+?)(s?)({_CODES})(\.[nw])?")
_PLACE = re.compile(r"\[(\w+)(?:, ?([^\]]*))?\](!?)")
_TYPE = re.compile(r"\.([fsuip])?(\d+)$")


def _parts(mnemonic: str) -> tuple[Kind, str]:
    """Return (kind, condition of a predicated instruction)."""
    kind = _KIND(mnemonic)
    if kind != b.OTHER:
        return kind, ""
    plain = re.sub(r"\.[nw]$", "", mnemonic)
    kind = _KIND(plain)
    found = _CONDITIONAL.fullmatch(plain)
    if kind == b.OTHER and found:
        return _KIND(found[1]), found[3]
    return kind, ""


@lru_cache(maxsize=65536)
def effect(mnemonic: str, operands: tuple[str, ...]) -> Effect:
    """Return what an instruction does."""
    kind, code = _parts(mnemonic)
    last = operands[-1] if operands else ""
    if _returns(mnemonic, operands):
        return Effect(b.RETURN, condition=CONDITIONS.get(code, code))
    if kind in (b.BRANCH, b.JUMP, b.CALL):
        indirect = mnemonic.startswith(("bx", "blx", "tb")) and bool(
            re.fullmatch(r"r\d+|ip|lr|fp|sl|sb|\[.*", last)
        )
        own = (
            re.sub(r"\.[nw]$", "", mnemonic)[1:]
            if kind == b.BRANCH and mnemonic[0] == "b"
            else code
        )
        condition = CONDITIONS.get(own, own)
        if mnemonic.startswith("cb"):
            condition = "ne" if "nz" in mnemonic else "eq"
        kind = b.BRANCH if kind == b.JUMP and code else kind
        target = "" if indirect else last.partition("(")[0]  # "surge(PLT)"
        return Effect(kind, condition=condition, target=target, indirect=indirect)
    place = next((o for o in operands if o.startswith("[")), "")
    found = _PLACE.match(place)
    memory = _memory(found) if found else None
    typed = _TYPE.search(mnemonic)
    bits, element = (int(typed[2]), typed[1] or "") if typed else (32, "")
    lanes = 1
    if typed and operands and operands[0][0] in "qd" and not (operands[0][0] == "d" and bits == 64):
        lanes = (128 if operands[0][0] == "q" else 64) // bits
    if kind in ("load", "store"):
        made = Effect(b.MOVE, bits, lanes, element, memory=memory or Memory(symbol=last))
        return made._replace(loads=kind == "load", stores=kind == "store")
    if kind == b.ATOMIC:
        return Effect(kind, memory=memory, loads=mnemonic[0] == "l", stores=mnemonic[0] == "s")
    immediate = b.number(last)
    if kind == b.MOVE and immediate is not None:
        kind = b.CONSTANT
    # A predicated move or calculation takes the place of a branch.
    if code and kind in (b.MOVE, b.CONSTANT):
        kind = b.SELECT
    signed = {"a": "signed", "l": "unsigned"}.get(mnemonic[0], "") if mnemonic[1:3] == "sr" else ""
    if kind == b.DIV:
        signed = "unsigned" if mnemonic[0] == "u" else "signed"
    condition = CONDITIONS.get(code, code)
    return Effect(
        kind, bits, lanes, element, condition, immediate=immediate, signed=signed,
        width=bits * lanes if lanes > 1 else 0,
    )  # fmt: skip


def _memory(found: re.Match[str]) -> Memory:
    inside = found[2] or ""
    register = re.match(r"r\d+|ip|lr", inside)
    return Memory(
        family_of(found[1])[0], family_of(register[0])[0] if register else "",
        "", (b.number(inside) or 0) if inside and not register else 0,
    )  # fmt: skip


def _returns(mnemonic: str, operands: tuple[str, ...]) -> bool:
    text = f"{mnemonic} {','.join(operands)}"
    return bool(re.match(r"bx\w* lr$|pop\S*.*\bpc\b|ldm\S*.*\bpc\b|ldr pc,|mov pc,lr", text))


@lru_cache(maxsize=65536)
def roles(mnemonic: str, operands: tuple[str, ...]) -> tuple[Role, ...]:
    """Return what happens to the registers of each operand."""
    kind, code = _parts(mnemonic)
    if mnemonic == "vmrs":
        return (DEFINE, USE)
    if not operands or kind in (b.BRANCH, b.JUMP, b.CALL, b.COMPARE, b.PUSH):
        return (USE,) * len(operands)
    out = [BOTH if _moves(operands, k) else USE for k in range(len(operands))]
    if kind == "store" or (mnemonic.startswith(("stl", "vst")) and not _STATUS.match(mnemonic)):
        return tuple(out)
    filled = DEFINE if not code else BOTH
    if kind in ("load", b.ATOMIC, b.POP):
        count = _written(mnemonic, operands)
        at = 1 if _SEVERAL.match(mnemonic) else 0
        return (*out[:at], *([filled] * count), *out[at + count :])
    if _ADDS_TO_TWO.match(mnemonic):
        return (BOTH, BOTH, *out[2:])
    keeps = (
        code
        or mnemonic.startswith(("movt", "bfi", "bfc", "vml", "vfm", "vfn"))
        or len(operands) == 1
        or re.match(r"d\d+\[", operands[0])
    )
    out[0] = BOTH if keeps else DEFINE
    if mnemonic[1:5] == "mull" or (mnemonic == "vmov" and len(operands) == 3 and _pair(operands)):
        out[1] = out[0]
    return tuple(out)


_STATUS = re.compile("strex|stlex")
_SEVERAL = re.compile("v?ldm")
_ADDS_TO_TWO = re.compile(r"[us]mlal|umaal|smlsld|smlald")


def _moves(operands: tuple[str, ...], k: int) -> bool:
    """Tell whether an access moves the register that this operand names."""
    return operands[k].endswith("!") or (operands[k].startswith("[") and k < len(operands) - 1)


def _written(mnemonic: str, operands: tuple[str, ...]) -> int:
    """Return how many operands a load writes."""
    return 2 if re.match(r"ldrd|ldrexd|ldaexd", mnemonic) and len(operands) > 2 else 1


def _pair(operands: tuple[str, ...]) -> bool:
    """Tell whether a copy takes one wide register apart into two narrow ones."""
    return operands[-1].startswith(("d", "s"))


def _constant(mnemonic: str, operands: tuple[str, ...], before: int) -> int | None:
    value = constants(effect)(mnemonic, operands, before)
    return set_by_parts(value, mnemonic, operands, before)


SEMANTICS = Semantics(
    effect=effect,
    roles=roles,
    hard_writes=nothing_hard,
    zero=frozenset(),
    constant=_constant,
    computed=computed,
    scale=scale,
    writeback=writeback,
    access_bytes=access_bytes,
    pairs=re.compile("ldrd|strd"),
    carry=re.compile("adc|sbc|rsc"),
    flag_selects=NEVER,
    scaled=re.compile(r"lsl |uxtw |sxtw |,lsl"),
    bit_tests=NEVER,
    narrow=False,
    atomic_names_tell=True,
)
