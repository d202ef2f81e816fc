"""x86-64 and i386."""

import re
from functools import lru_cache

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.records import NEVER, Semantics
from hot_anvil.core.arch.semantics import BOTH, DEFINE, USE, Effect, Kind, Memory, Role
from hot_anvil.core.arch.values import computed, constants, no_writeback, plain_bytes
from hot_anvil.core.arch.x86.registers import family_of, register_bits

# Integer instructions; those that take one of the letters for a size are tried without it too.
_KIND = b.kind_table(
    {
        b.MOVE: r"mov|movabs|movabsq|movnti|movbe|xchg|fi?ldz?1?[a-z]?|fi?sttp?[a-z]*"
        r"|fi?stp?[a-z]*|fxch",
        b.EXTEND: r"mov[sz][bwl][wlq]|mov[sz](?:xd?)?"
        r"|cltq|cwtl|cqto|cltd|cdqe|cwde|cqo|cdq|cbtw|cwtd",
        b.ADDRESS: "lea",
        b.ADD: "add|adc|inc|adcx|adox",
        b.SUB: "sub|sbb|dec|neg",
        b.MUL: "imul|mul|mulx",
        b.DIV: "idiv|div",
        b.SHIFT: r"s[ah][lr]|ro[lr]|rc[lr]|sh[lr]d|s[ah][lr]x|rorx",
        b.LOGIC: r"and|or|xor|not|andn|bt|bts|btr|btc|bs[fr]|[lt]zcnt|popcnt|bswap|bls[ir]|blsmsk"
        "|bextr|bzhi|pext|pdep|crc32",
        b.COMPARE: "cmp|test|fu?comi?p{0,2}[a-z]?|fnstsw",
        b.BRANCH: r"j(?!mp)[a-z]+",
        b.SET: r"set[a-z]+",
        b.SELECT: r"cmov[a-z]+",
        b.JUMP: "jmp",
        b.CALL: "call",
        b.RETURN: "ret",
        b.PUSH: "push|enter",
        b.POP: "pop|leave",
        b.LANDING: r"endbr(?:64|32)",
        b.TRAP: "ud2|int3|hlt",
        b.FENCE: "[mls]fence",
        b.ATOMIC: r"cmpxchg(?:8|16)?b?|xadd",
        b.FADD: r"fi?(?:add|subr?)p?[a-z]?",
        b.FMUL: r"fi?mulp?[a-z]?",
        b.FDIV: r"fi?divr?p?[a-z]?",
        b.NOTHING: "nop|pause|prefetch.*|vzeroupper|vzeroall|emms|cld|std",
        b.BLOCK: r"(?:movs|stos|lods|scas|cmps)[bwlq]",
    }
)
_VECTOR = b.kind_table(
    {
        b.FMA: r"vfn?m(?:add|sub|addsub|subadd)\d{3}[sp][sd]",
        b.FADD: r"v?(?:h?add|h?sub|addsub)[sp][sd]",
        b.FMUL: r"v?(?:mul|rcp|rsqrt|dp)[sp][sd]",
        b.FDIV: r"v?div[sp][sd]",
        b.FSQRT: r"v?sqrt[sp][sd]",
        b.MINMAX: r"v?(?:min|max)[sp][sd]|v?p(?:min|max)[su][bwdq]|v?phminposuw",
        b.COMPARE: r"v?u?comis[sd]|v?cmp\w*[sp][sd]|v?pcmp(?:eq|gt)[bwdq]|vpcmpu?[bwdq]|v?ptest"
        r"|vtestp[sd]|vptestn?m[bwdq]|k(?:or)?test[bwdq]",
        b.LOGIC: r"v?(?:andn?|or|xor)p[sd]|v?p(?:andn?|or|xor)[dq]?|vpternlog[dq]"
        r"|k(?:and|or|xor|xnor|not)[bwdq]",
        b.ADD: r"v?p(?:h?add(?:u?s)?[bwdq]|avg[bw])|v?phaddsw",
        b.SUB: r"v?p(?:h?sub(?:u?s)?[bwdq]|sign[bwd])|v?psadbw|v?phsubsw",
        b.MUL: r"v?pmul(?:l|h|hu|hrs|u)?(?:w|d|q|dq|sw)|v?pmadd(?:wd|ubsw)|v?pmuludq"
        r"|vpmadd52[lh]uq",
        b.SHIFT: r"v?ps(?:ll|rl|ra)v?[wdq]|vpro[lr]v?[dq]",
        b.EXTEND: r"v?pmov[sz]x\w+|vpmov[a-z]+|v?pabs[bwdq]",
        b.CONVERT: r"v?cvt\w+|v?round[sp][sd]|vrndscale[sp][sd]",
        b.SHUFFLE: r"v?(?:pshuf|ps[lr]ldq|punpck|pack|unpck|shufp|palignr|pinsr|pextr|insert"
        r"|extract|perm|blend"
        r"|pblend|broadcast|pbroadcast|movhlps|movlhps|mov[sd]l?dup|movs[lh]dup|palign|align|gather"
        r"|pgather|scatter|pscatter|compress|expand|pcompress|pexpand|pmovmsk|movmsk|maskmov"
        r"|pmaskmov|perm)\w*",
        b.MOVE: r"v?mov(?:[au]p[sd]|dq[au](?:8|16|32|64)?|s[sd]|[dq]|[hl]p[sd]|nt\w+|dqu|q2dq|dq2q)"
        r"|v?lddqu|kmov[bwdq]",
    }
)
_WHOLE = re.compile(r"v?p(?:andn?|or|xor)[dq]?|vpternlog[dq]")  # bits, whatever the elements
_NARROW = {"movs", "movz", "movsx", "movzx", "movsxd"}
_CONDITION = {
    "e": "eq", "z": "eq", "ne": "ne", "nz": "ne", "l": "lt", "nge": "lt", "le": "le", "ng": "le",
    "g": "gt", "nle": "gt", "ge": "ge", "nl": "ge", "b": "ult", "nae": "ult", "c": "ult",
    "be": "ule", "na": "ule", "a": "ugt", "nbe": "ugt", "ae": "uge", "nb": "uge", "nc": "uge",
}  # fmt: skip
_MEMORY = re.compile(
    r"\*?(?:(%[c-gs]s):)?([^(%]*)(?:\((%\w+)?(?:, ?(%\w+))?(?:, ?(\d))?\))?(?:\{.*)?"
)
_BITS = {"b": 8, "w": 16, "l": 32, "q": 64, "d": 32}
_READS_LAST = frozenset((b.COMPARE, b.BRANCH, b.JUMP, b.CALL, b.PUSH, b.DIV))
_WRITES_LAST = frozenset((b.MOVE, b.CONSTANT, b.EXTEND, b.ADDRESS, b.SET, b.POP, b.CONVERT))
_BIT_TEST = re.compile("bt[wlq]?")
_X87_READS = re.compile("fi?(?:ld|add|sub|mul|div|com)")  # of memory; others of the stack store
# Instructions on general registers that only write their destination.
_COMPUTED = ("andn", "tzcnt", "lzcnt", "popcnt", "bls", "bextr", "bzhi", "pext", "pdep")
_THREE = re.compile(r"v(?!fn?m|pternlog|permt2|permi2|pmadd52|pdp)\w+")  # reads no destination


@lru_cache(maxsize=8192)
def _kind(mnemonic: str) -> tuple[Kind, bool]:
    """Return the kind of a mnemonic without prefixes, and whether it is a vector's."""
    for name in (mnemonic, mnemonic[:-1] if mnemonic[-1:] in "bwlq" else ""):
        kind = _KIND(name)
        if kind != b.OTHER:
            return kind, False
    return _VECTOR(mnemonic), True


def memory_of(operand: str) -> Memory | None:
    """Return the memory that an operand names, None for a register or an immediate."""
    if operand[:1] in "$%" and not operand.startswith(("%fs:", "%gs:", "%ds:", "%cs:", "%es:")):
        return None
    found = _MEMORY.fullmatch(operand)
    if not found:
        return None
    segment, displacement, base, index, _ = found.groups()
    offset = b.number(displacement) if displacement else 0
    return Memory(
        family_of(base)[0] if base else "",
        family_of(index)[0] if index else "",
        "" if offset is not None else displacement,
        offset or 0,
        segment or "",
    )


@lru_cache(maxsize=65536)
def effect(mnemonic: str, operands: tuple[str, ...]) -> Effect:
    """Return what an instruction does."""
    prefix, _, name = mnemonic.rpartition(" ")
    kind, vector = _kind(name)
    last = operands[-1] if operands else ""
    if kind in (b.JUMP, b.CALL, b.BRANCH):
        return _going(kind, name, last)
    if kind == b.BLOCK:
        stores = name.startswith(("movs", "stos"))
        return Effect(kind, loads=not name.startswith("stos"), stores=stores)
    places = [memory_of(operand) for operand in operands]
    memory = next((place for place in places if place), None)
    loads = any(place is not None for place in places[:-1])
    stores = False
    if memory and places[-1] is not None:
        only_reads = kind in _READS_LAST or (len(operands) == 1 and kind in (b.MUL, b.DIV))
        only_reads |= bool(_X87_READS.match(name))
        stores = not only_reads
        loads = loads or only_reads or not (kind in _WRITES_LAST or vector)
    if kind == b.ADDRESS or (kind == b.NOTHING):
        loads = stores = False
    immediate = b.number(operands[0]) if operands and operands[0].startswith("$") else None
    immediate = 1 if name[:3] in ("inc", "dec") else immediate
    if kind == b.MOVE and operands and operands[0].startswith("$"):
        kind = b.CONSTANT
    if prefix.endswith("lock") or (name.startswith("xchg") and memory):
        kind = b.ATOMIC
    fixed = _always(name, operands)
    if fixed is not None:
        kind, immediate = b.CONSTANT, fixed
    made = Effect(kind, memory=memory, loads=loads, stores=stores, immediate=immediate)
    if vector:
        return _with_lanes(made, name, operands)
    if kind == b.MUL and len(operands) == 1:
        kind = b.MULHIGH
    bits = _BITS.get(name[-1:], 0) if name not in _NARROW else 0
    bits = register_bits(last) or bits
    return made._replace(
        kind=kind, bits=bits, condition=_condition(name, kind), signed=_signed(name, kind)
    )


def _going(kind: Kind, name: str, last: str) -> Effect:
    indirect = last.startswith("*")
    if indirect and last.endswith("@GOTPCREL(%rip)"):  # a direct call in indirect form
        return Effect(kind, target=last[1:].partition("@")[0])
    memory = memory_of(last[1:]) if indirect else None
    target = "" if indirect else last.partition("@")[0]
    return Effect(
        kind, condition=_condition(name, kind), target=target, indirect=indirect,
        memory=memory, loads=memory is not None,
    )  # fmt: skip


def _always(name: str, operands: tuple[str, ...]) -> int | None:
    """Return the value that an idiom sets a register to, whatever it held before."""
    if len(operands) < 2 or not operands[-1].startswith("%"):
        return None
    if operands[0] == "$-1" and re.fullmatch("or[lq]", name):
        return -1
    cleared = re.fullmatch(r"(?:xor|sub)[bwlq]?|v?p?xor(?:p[sd]|[dq])?", name)
    return 0 if cleared and len(set(operands)) == 1 else None


def _condition(name: str, kind: Kind) -> str:
    start = {b.BRANCH: "j", b.SET: "set", b.SELECT: "cmov"}.get(kind)
    if start is None:
        return ""
    code = name[len(start) :]
    return _CONDITION.get(code) or _CONDITION.get(code[:-1], code)


def _signed(name: str, kind: Kind) -> str:
    if kind == b.SHIFT:
        return (
            "signed"
            if name.startswith("sa") and name[2:3] == "r"
            else "unsigned"
            if name.startswith("shr")
            else ""
        )
    if kind == b.EXTEND:
        return "unsigned" if name.startswith("movz") else "signed"
    if kind == b.DIV:
        return "signed" if name.startswith("i") else "unsigned"
    return ""


def _with_lanes(made: Effect, name: str, operands: tuple[str, ...]) -> Effect:
    """Return a vector instruction's effect with its element and lanes."""
    width = max(
        (
            n
            for n in (128, 256, 512)
            if any(f"{'xyz'[n.bit_length() - 8]}mm" in o for o in operands)
        ),
        default=128,
    )
    element, bits = _element(name, made.kind)
    scalar = (name.endswith(("ss", "sd")) and element == "f") or name in (
        "movd",
        "movq",
        "vmovd",
        "vmovq",
    )
    if made.kind == b.CONVERT:  # cvtsi2sdq and the like are of one value
        scalar |= bool(re.search(r"s[sdi]2|2u?si|2s[sd]", name)) or not re.search(r"p[sd]|dq", name)
    if name.startswith("k") or scalar or not bits:
        return made._replace(bits=bits, element=element)
    if bits == 128:
        return made._replace(bits=0, element=element, lanes=0, width=width)
    return made._replace(
        bits=bits,
        element=element,
        lanes=max(width // bits, 1),
        width=width,
        across=bool(re.match(r"v?p?h(?:add|sub)|v?dpp", name)),
    )  # fmt: skip


def _element(name: str, kind: Kind) -> tuple[str, int]:
    if kind == b.FMA or (re.search(r"[sp][sd]$", name) and not name.startswith(("p", "vp"))):
        return "f", 32 if name.endswith("s") else 64
    if re.search(r"mov[au]p|dq[au]", name) or _WHOLE.fullmatch(name):
        return "", 128
    if name.endswith("wd"):
        return "i", 16
    if name.endswith(("udq", "dq")) and kind == b.MUL:
        return "i", 32
    letter = name.rstrip("x")[-1:]
    return (
        ("i", {"b": 8, "w": 16, "d": 32, "q": 64}.get(letter, 0))
        if name.startswith(("p", "vp"))
        else ("", 128)
    )


@lru_cache(maxsize=65536)
def roles(mnemonic: str, operands: tuple[str, ...]) -> tuple[Role, ...]:
    """Return what happens to the registers of each operand."""
    name = mnemonic.rpartition(" ")[2]
    kind, vector = _kind(name)
    out = [USE] * len(operands)
    if (kind == b.MUL and len(operands) == 1) or _BIT_TEST.fullmatch(name):
        return tuple(out)
    if name.startswith(("xchg", "xadd")):
        return tuple(BOTH if o.startswith("%") else USE for o in operands)
    last = operands[-1] if operands else ""
    if kind == b.COMPARE and last.startswith("%k"):
        return (*out[:-1], BOTH if "{" in last else DEFINE)
    if not operands or kind in _READS_LAST or memory_of(last.lstrip("*")):
        return tuple(out)
    if "gather" in name:  # its mask is used up; lanes that it leaves out keep what they had
        return (BOTH if len(operands) == 3 else USE, *out[1:-1], BOTH)
    if name.startswith("mulx"):
        return (USE, DEFINE, DEFINE)
    whole = register_bits(last) in (0, 32, 64) or kind == b.SET
    if _always(name, operands) is not None:
        return (DEFINE,) * len(operands)
    if vector:
        pure = kind in (b.EXTEND, b.CONVERT) or (bool(_THREE.fullmatch(name)) and "{" not in last)
        moves = kind == b.MOVE and not (
            re.match(r"v?mov(?:s[sd]|[hl]p)", name) and operands[0].startswith("%")
        )
        pure = (
            pure
            or moves
            or name.startswith(("pshufd", "pshufl", "pshufh", "pextr", "pmovmsk", "movmsk"))
        )
    else:
        three = (kind == b.MUL and len(operands) == 3) or (kind == b.SHIFT and name[3:4] == "x")
        pure = kind in _WRITES_LAST or three or name.startswith(_COMPUTED)
    out[-1] = DEFINE if pure and whole else BOTH
    return tuple(out)


def hard_writes(mnemonic: str, operands: tuple[str, ...]) -> tuple[str, ...]:
    """Return the register families that an instruction writes without naming them."""
    name = mnemonic.rpartition(" ")[2]
    kind, _ = _kind(name)
    if kind == b.DIV or (kind == b.MUL and len(operands) == 1):
        return ("ax", "dx")
    if name in ("cltd", "cqto", "cdq", "cqo", "cwtd"):
        return ("dx",)
    if name in ("cltq", "cwtl", "cdqe", "cwde", "cbtw"):
        return ("ax",)
    if kind == b.BLOCK:
        return ("cx", "si", "di", "ax")
    if "cmpxchg" in name:
        return ("ax",)
    return ("bp",) if name.startswith("leave") else ()


_SCALE = re.compile(r"%\w+, ?(\d)\)")
_SIZES = {"b": 1, "w": 2, "l": 4}


@lru_cache(maxsize=1 << 15)
def _scale(operands: tuple[str, ...]) -> int:
    return next((int(found[1]) for o in operands if (found := _SCALE.search(o))), 1)


def _access_bytes(mnemonic: str, done: Effect) -> int:
    """Return how many bytes are loaded or stored; 0 for a load that widens, of unknown size."""
    narrow = re.match(r"mov[sz]([bwl])[wlq]$", mnemonic)
    if narrow:
        return _SIZES[narrow[1]]
    if done.packed and done.width and re.match(r"v?pmov[sz]x", mnemonic):
        return 0
    return plain_bytes(mnemonic, done)


SEMANTICS = Semantics(
    effect=effect,
    roles=roles,
    hard_writes=hard_writes,
    zero=frozenset(),
    constant=constants(effect),
    computed=computed,
    scale=_scale,
    writeback=no_writeback,
    access_bytes=_access_bytes,
    pairs=NEVER,
    carry=re.compile("adc|sbb"),
    flag_selects=re.compile(r"(?:sbb|adc)[bwlq]? "),
    scaled=re.compile(r"\(.*,.*,[248]\)"),
    bit_tests=re.compile(r"bt\w? %"),
    narrow=False,
    atomic_names_tell=False,
)
