"""RISC-V, 32 and 64 bit."""

import re
from functools import lru_cache

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.records import NEVER, Semantics
from hot_anvil.core.arch.riscv.syntax import family_of
from hot_anvil.core.arch.semantics import BOTH, DEFINE, USE, Effect, Kind, Memory, Role
from hot_anvil.core.arch.values import (
    computed,
    constants,
    no_scale,
    no_writeback,
    nothing_hard,
    plain_bytes,
)

_KIND = b.kind_table(
    {
        "load": r"l[bhwd]u?|f?l[wd]|flh|vl(?:e|se|uxei|oxei|seg\w*?)\d+\w*\.v|vl\dr\w*\.v",
        "store": r"s[bhwd]|fs[hwd]|vs(?:e|se|uxei|oxei|seg\w*?)\d+\w*\.v|vs\dr\.v",
        b.MOVE: r"mv|fmv\.\w+(?:\.\w)?|fmv|vmv\w*\.\w\.?\w?|vfmv\.\w\.\w",
        b.CONSTANT: "li|lui",
        b.ADDRESS: "la(?:\\.\\w+)*|lla|auipc",
        b.EXTEND: r"sext\.[bhw]|zext\.[bhw]|v[sz]ext\.vf\d|vn(?:cvt|srl).*",
        b.CONVERT: r"fcvt\.[\w.]+|vf\w?cvt[\w.]*",
        b.FMA: r"fn?m(?:add|sub)\.[shd]|vfn?m(?:acc|sac|add|sub)\.v[vf]",
        b.FADD: r"fadd\.[shd]|fsub\.[shd]|vfr?(?:add|sub)\.v[vf]|vfred\w+\.vs",
        b.FMUL: r"fmul\.[shd]|vfmul\.v[vf]",
        b.FDIV: r"fdiv\.[shd]|vfr?div\.v[vf]",
        b.FSQRT: r"fsqrt\.[shd]|vfsqrt\.v",
        b.MINMAX: r"f(?:min|max)\.[shd]|vf?(?:min|max)u?\.v[vxf]|(?:min|max)u?",
        b.MULHIGH: r"mulhs?u?|vmulhs?u?\.v[vx]",
        b.MUL: r"mulw?|vw?mulu?\.v[vx]|v\w?m(?:acc|add)\w*\.v[vx]|vnm\w+\.v[vx]",
        b.DIV: r"divu?w?|remu?w?|v(?:div|rem)u?\.v[vx]",
        b.ADD: r"c?\.?addi?w?|addi16sp|sh[123]add|vw?addu?\.[vw][vxi]|vs?addu?\.v[vxi]"
        r"|vw?red\w+\.vs|vadc.*",
        b.SUB: r"subw?|negw?|vw?r?subu?\.[vw][vxi]|vneg\.v",
        b.SHIFT: r"s[lr][la]i?w?|vs[lr][la]\.v[vxi]|vn?sr[la]\.w[vxi]|ro[lr]i?w?",
        b.LOGIC: r"andi?|x?ori?|not|vx?(?:and|or)\.v[vxi]|vxor\.v[vxi]|vnot\.v|clz|ctz"
        r"|cpop|orn|andn|xnor",
        b.SET: r"slti?u?|s(?:eqz|nez|ltz|gtz)|sgtu?|f(?:eq|lt|le|gt|ge)\.[shd]|fclass\.[sd]",
        b.SELECT: r"czero\.\w+|vmerge\.v[vxi]m|vfmerge\.vfm",
        b.COMPARE: r"vmf?s\w+\.v[vxif]",
        b.BRANCH: r"b(?:eq|ne|lt|ge|gt|le)u?z?",
        b.JUMP: "j|jr|tail|jump",
        b.CALL: "call|jalr?",
        b.RETURN: "ret",
        b.ATOMIC: r"amo\w+\.[wd][\w.]*|lr\.[wd][\w.]*|sc\.[wd][\w.]*",
        b.FENCE: r"fence(?:\.\w+)?",
        b.TRAP: "ebreak|unimp",
        b.SHUFFLE: r"vslide\w+\.v[xi]|vrgather\.v[vxi]|vid\.v|vcompress\.vm",
        b.NOTHING: "nop|vsetv\\w+",
    }
)
_CONDITION = {"lt": "lt", "ge": "ge", "gt": "gt", "le": "le", "eq": "eq", "ne": "ne"}
_PLACE = re.compile(r"([^(]*)\((\w+)\)")


def memory_of(operand: str) -> Memory | None:
    """Return the memory that an operand such as ``8(a0)`` names."""
    found = _PLACE.fullmatch(operand)
    if not found:
        return None
    offset = b.number(found[1]) if found[1] else 0
    return Memory(family_of(found[2])[0], "", found[1] if offset is None else "", offset or 0)


@lru_cache(maxsize=65536)
def effect(mnemonic: str, operands: tuple[str, ...]) -> Effect:
    """Return what an instruction does."""
    kind = _KIND(mnemonic)
    last = operands[-1] if operands else ""
    if kind == b.JUMP and mnemonic == "jr" and last == "ra":
        return Effect(b.RETURN)
    if kind in (b.BRANCH, b.JUMP, b.CALL):
        indirect = mnemonic in ("jr", "jalr")
        target = "" if indirect else last.partition("@")[0]
        return Effect(kind, condition=_condition(mnemonic, kind), target=target, indirect=indirect)
    lanes = b.SCALABLE if mnemonic.startswith("v") and not mnemonic.startswith("vset") else 1
    if kind in ("load", "store"):
        memory = next((m for m in map(memory_of, operands) if m), None) or Memory(symbol=last)
        return Effect(
            b.MOVE, _bits(mnemonic), lanes, "f" if mnemonic[0] == "f" else "", memory=memory,
            loads=kind == "load", stores=kind == "store",
            signed="unsigned" if mnemonic in ("lbu", "lhu", "lwu") else "",
        )  # fmt: skip
    if kind == b.ATOMIC:
        at = next((m for m in map(memory_of, operands) if m), None)
        return Effect(kind, memory=at, loads=True, stores=not mnemonic.startswith("lr"))
    immediate = b.number(last)
    if mnemonic in ("add", "addi", "addiw", "addw") and operands[1:2] == ("zero",):
        kind = b.CONSTANT if immediate is not None else b.MOVE
    if (mnemonic == "mv" and last == "zero") or (mnemonic.startswith("fmv") and last == "zero"):
        kind, immediate = b.CONSTANT, 0
    element = "f" if mnemonic[0] == "f" or mnemonic[:2] == "vf" else "i" if lanes != 1 else ""
    return Effect(
        kind, _bits(mnemonic), lanes, element, immediate=immediate,
        condition=_condition(mnemonic, kind), signed=_signed(mnemonic, kind),
        across="red" in mnemonic and lanes != 1,
    )  # fmt: skip


def _bits(mnemonic: str) -> int:
    if re.search(r"\.s\b|w$|[^l]w\b", mnemonic):
        return 32
    if mnemonic.endswith((".d", "ld", "sd")):
        return 64
    return {"b": 8, "h": 16}.get(mnemonic.rstrip("u")[-1:], 0)


def _condition(mnemonic: str, kind: Kind) -> str:
    if kind == b.BRANCH:
        code = mnemonic[1:3]
        return f"u{code}" if mnemonic.endswith("u") else code
    if kind == b.SET:
        return "ult" if mnemonic.endswith("u") else "lt"
    return ""


def _signed(mnemonic: str, kind: Kind) -> str:
    if kind == b.SHIFT:
        return {"sra": "signed", "srl": "unsigned"}.get(mnemonic[:3], "")
    if kind == b.DIV:
        return "unsigned" if "u" in mnemonic else "signed"
    return ""


@lru_cache(maxsize=65536)
def roles(mnemonic: str, operands: tuple[str, ...]) -> tuple[Role, ...]:
    """Return what happens to the registers of each operand."""
    kind = _KIND(mnemonic)
    if kind in (b.BRANCH, b.JUMP, b.CALL, b.RETURN, b.FENCE, "store") or not operands:
        return (USE,) * len(operands)
    keeps = operands[-1] == "v0.t" or re.match(r"vf?w?n?m(?:acc|sac|add|sub)", mnemonic)
    return (BOTH if keeps else DEFINE, *([USE] * (len(operands) - 1)))


def _constant(mnemonic: str, operands: tuple[str, ...], before: int) -> int | None:
    value = constants(effect, ("zero",))(mnemonic, operands, before)
    return value if value is None or mnemonic != "lui" else value << 12


SEMANTICS = Semantics(
    effect=effect,
    roles=roles,
    hard_writes=nothing_hard,
    zero=frozenset(("zero",)),
    constant=_constant,
    computed=computed,
    scale=no_scale,
    writeback=no_writeback,
    access_bytes=plain_bytes,
    pairs=NEVER,
    carry=NEVER,
    flag_selects=NEVER,
    scaled=re.compile("sh[123]add"),
    bit_tests=NEVER,
    narrow=False,
    atomic_names_tell=True,
)
