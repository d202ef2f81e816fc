"""Write x86 instructions, which are read in AT&T syntax, in Intel syntax.

Only the spelling changes: assembled as Intel syntax the result gives the same
bytes, which the tests check over their corpus.
"""

import re
from functools import lru_cache

from hot_anvil.core.arch.x86.registers import family_of
from hot_anvil.core.code.records import Instruction

_SIZES = {"b": "byte", "w": "word", "l": "dword", "q": "qword"}
_VIEWS = {"b": "byte", "h": "byte", "w": "word", "e": "dword", "r": "qword"}
_VECTORS = {"xmm": "xmmword", "ymm": "ymmword", "zmm": "zmmword"}
_ALONE = {
    "cltq": "cdqe",
    "cqto": "cqo",
    "cltd": "cdq",
    "cwtl": "cwde",
    "cwtd": "cwd",
    "cbtw": "cbw",
    "leaveq": "leave",
    "retq": "ret",
    "stosl": "stosd",
    "lodsl": "lodsd",
    "scasl": "scasd",
    "movsl": "movsd",
    "cmpsl": "cmpsd",
}
_INTEGER = (
    "adc add and bsf bsr bswap bt btc btr bts call cmp cmpxchg dec div idiv imul inc jmp lea "
    "lzcnt mov mul neg not or pop popcnt push rcl rcr ret rol ror rorx sal sar sarx sbb shl shlx "
    "shld shr shrd shrx sub test tzcnt xadd xchg xor movbe andn bextr blsi blsr blsmsk bzhi pdep "
    "pext mulx adcx adox crc32 movnti cmpxchg8b cmpxchg16b bound enter"
).split()
_STRING = re.compile(r"(?:movs|stos|lods|scas|cmps)[bwlq]$")
_EXTEND = re.compile(r"mov([zs])([bwl])([wlq])$")
_CONDITIONAL = re.compile(r"(cmov|set)(\w+?)$")
_FLOAT_MEMORY = re.compile(r"(f(?:ld|st|stp|add|sub|subr|mul|div|divr|com|comp))([slt])$")
_FLOAT_INTEGER = re.compile(r"(fi(?:ld|st|stp|sttp|add|sub|mul|div|com|comp))(s|ll|l|q)$")
_CONVERT = re.compile(r"(v?cvtu?si2s[sd])([lq]?)$")
_SCALAR = re.compile(r"(?:[a-z0-9]+)s([sd])$")
_MEMORY = re.compile(r"^(?:%([c-gs]s):)?([^()]*)\(([^()]*)\)((?:\{[^}]*\})*)$")
_NARROWS = re.compile(r"(vcvtt?(?:pd2ps|pd2u?dq|u?qq2ps))([xy])$")
_SWAPPED = {"sub": "subr", "subr": "sub", "div": "divr", "divr": "div"}
_WIDTHS = {"movd": "dword", "vmovd": "dword", "movq": "qword", "vmovq": "qword"} | {
    "movlps": "qword",
    "movhps": "qword",
    "movlpd": "qword",
    "movhpd": "qword",
    "cvtps2pd": "qword",
    "cvtdq2pd": "qword",
    "movddup": "qword",
    "pinsrw": "word",
    "pinsrb": "byte",
    "pinsrd": "dword",
    "pinsrq": "qword",
    "pextrw": "word",
    "insertps": "dword",
    "pextrb": "byte",
    "pextrd": "dword",
    "pextrq": "qword",
    "extractps": "dword",
}
_NO_SIZE = re.compile(r"(?:lea|prefetch|clflush|fldcw|fnstcw|fldenv|fnstenv|invlpg|fxsave|ldmxcsr)")


def intel_text(instruction: Instruction) -> tuple[str, str]:
    """Return (mnemonic, operands) of an instruction in Intel syntax."""
    return _convert(instruction.mnemonic, instruction.operands)


@lru_cache(maxsize=65536)
def _convert(mnemonic: str, operands: tuple[str, ...]) -> tuple[str, str]:
    prefix, _, last = mnemonic.rpartition(" ")
    name, size = _rename(last, operands)
    if last.startswith("f") and len(operands) == 2 and operands[1] != "%st":
        name = _unswap(name)
    jumps = last.startswith(("j", "call", "loop")) or last in ("xbegin",)
    written = [_operand(o, size, jumps, last) for o in _in_order(operands, last)]
    return (f"{prefix} {name}" if prefix else name), ", ".join(written)


def _in_order(operands: tuple[str, ...], name: str) -> tuple[str, ...]:
    return operands if name in ("enter", "bound") else operands[::-1]


def _rename(name: str, operands: tuple[str, ...]) -> tuple[str, str]:
    """Return the Intel mnemonic, and the size of what a memory operand holds ("" for none)."""
    if not operands or (_STRING.match(name) and "(" in operands[0] and len(operands) == 2):
        return _ALONE.get(name, name), ""
    if _STRING.match(name) and operands[0].startswith("%") and "(" in operands[-1]:
        return _ALONE.get(name, name), ""
    if _NO_SIZE.match(name):
        return (name.rstrip("lqw") if name[:-1] == "lea" else name), ""
    extended = _EXTEND.match(name)
    if extended:
        kind, source, target = extended.groups()
        wide = source == "l" and target == "q"
        return ("movsxd" if wide else f"mov{kind}x"), _SIZES[source]
    for pattern, sizes in (
        (_FLOAT_INTEGER, {"s": "word", "l": "dword", "ll": "qword", "q": "qword"}),
        (_FLOAT_MEMORY, {"s": "dword", "l": "qword", "t": "tbyte"}),
    ):
        found = pattern.match(name)
        if found and "%st" not in operands[0]:
            return found[1], sizes[found[2]]
    converted = _CONVERT.match(name)
    if converted:
        return converted[1], _SIZES.get(converted[2], _register_size(operands))
    if name in ("movabs", "movabsq"):
        return "movabs", "qword"
    return _plain(name, operands)


def _plain(name: str, operands: tuple[str, ...]) -> tuple[str, str]:
    if name in _INTEGER:
        return name, _register_size(operands) or ("qword" if name in ("call", "jmp") else "")
    if name[:-1] in _INTEGER and name[-1] in _SIZES:
        if name == "movq" and _vector_size(operands):
            return name, "qword"
        return name[:-1], _SIZES[name[-1]]
    conditional = _CONDITIONAL.match(name)
    if conditional:
        if conditional[1] == "set":
            return name, "byte"
        size = _register_size(operands)
        cut = name[-1:] in "wlq" and name[:-1] in _CMOVS
        return (name[:-1] if cut else name), size
    if name in _WIDTHS:
        return name, _WIDTHS[name]
    bare = name.removeprefix("v")
    narrowed = _NARROWS.match(name)
    if narrowed:
        return narrowed[1], {"x": "xmmword", "y": "ymmword"}[narrowed[2]]
    if bare in ("cvtss2sd", "cvtsd2ss", "cvtss2si", "cvtsd2si", "cvttss2si", "cvttsd2si"):
        return name, "dword" if "tss2" in bare or bare.startswith("cvtss") else "qword"
    vector = _vector_size(operands)
    if bare in _WIDTHS:
        halves = bare in ("cvtps2pd", "cvtdq2pd") and "xmm" not in operands[-1]
        return name, "" if halves else _WIDTHS[bare]
    scalar = _SCALAR.match(bare)
    if scalar and vector and not bare.startswith(("p", "broadcast", "test")):
        return name, {"s": "dword", "d": "qword"}[scalar[1]]
    return name, ""


_CMOVS = frozenset(
    f"cmov{condition}"
    for condition in (
        "a ae b be c e g ge l le na nae nb nbe nc ne ng nge nl nle no np ns nz o p pe po s z"
    ).split()
)


def _register_size(operands: tuple[str, ...]) -> str:
    for operand in reversed(operands):
        if re.fullmatch(r"%\w+", operand) and operand != "%cl":
            return _VIEWS.get(family_of(operand)[1], "")
    return "byte" if "%cl" in operands and len(operands) == 2 else ""


def _vector_size(operands: tuple[str, ...]) -> str:
    for operand in reversed(operands):
        if operand[1:4] in _VECTORS:
            return _VECTORS[operand[1:4]]
    return ""


def _unswap(name: str) -> str:
    """Undo AT&T's exchange of two float instructions when the target is not the top."""
    base, pops = (name[:-1], "p") if name.endswith("p") else (name, "")
    return f"f{_SWAPPED[base[1:]]}{pops}" if base[1:] in _SWAPPED else name


def _operand(text: str, size: str, jumps: bool, name: str) -> str:
    indirect = text.startswith("*")
    text = text.lstrip("*")
    if text.startswith("$"):
        value = text[1:]
        return value if re.match(r"[-+]?\d", value) else f"offset {value}"
    if text.startswith("%") and ":" not in text:
        return text.replace("%", "")
    memory = _MEMORY.match(text)
    held = f"{size} ptr " if size else ""
    if memory:
        segment, displacement, inside, masks = memory.groups()
        parts = [part.strip().lstrip("%") for part in inside.split(",")]
        base, index, scale = [*parts, "", "", ""][:3]
        terms = [base] if base else []
        if index:
            terms.append(f"{index}*{scale or 1}" if scale not in ("", "1") or not base else index)
        address = " + ".join(terms)
        if displacement:
            joins = " - " if displacement.startswith("-") else " + " if address else ""
            address += f"{joins}{displacement.lstrip('-') if joins == ' - ' else displacement}"
        place = f"{segment}:" if segment else ""
        return f"{held}{place}[{address}]{masks.replace('%', '')}"
    if "%" in text and ":" in text:
        segment, _, displacement = text.partition(":")
        return f"{held}{segment.lstrip('%')}:{displacement}"
    if jumps and not indirect:
        return text
    return (
        text.replace("%", "")
        if "{" in text or not re.match(r"[\w.$-]", text)
        else f"{held}[{text}]"
    )
