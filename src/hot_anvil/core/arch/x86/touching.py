"""Which memory an instruction touches, as native/trace.c works it out from the registers."""

import re
from collections.abc import Callable, Iterator

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.state import FROM_CODE, MOST_TOUCHES, NONE, Touch
from hot_anvil.core.arch.x86.intel import intel_text
from hot_anvil.core.arch.x86.registers import family_of, register_bits
from hot_anvil.core.arch.x86.semantics import effect
from hot_anvil.core.code.records import Instruction

# In the order of core/arch/x86/state.py.
_FAMILIES = "ax bx cx dx si di bp sp r8 r9 r10 r11 r12 r13 r14 r15".split()
_SIZES = {
    "byte": 1, "word": 2, "dword": 4, "qword": 8, "tbyte": 10, "xmmword": 16, "ymmword": 32,
    "zmmword": 64,
}  # fmt: skip
_SIZE = re.compile(r"\b([a-z]+) ptr\b")
_OPERAND = re.compile(
    r"\*?(?:%([c-gs]s):)?([^(%]*)(?:\((%\w+)?(?:, ?(%\w+))?(?:, ?(\d))?\))?(?:\{.*)?"
)
_STRING = re.compile(r"(?:movs|stos|lods|scas|cmps)[bwlq]?")
_WIDENS = re.compile(r"v?pmov[sz]x([bwd])([wdq])")
_NARROWS = re.compile(r"vpmov(?:us|s)?([wdq])([bwd])$")
_HALVES = re.compile(r"v?cvt(?:ps|u?dq)2pd")
_SYMBOL = re.compile(r"([A-Za-z_.$][\w.$]*?)([+-](?:0x)?[0-9a-f]+)?")
_SEGMENTS = {"fs": 1, "gs": 2}
_LETTERS = {"b": 1, "w": 2, "l": 4, "d": 4, "q": 8}
_SP, _SI, _DI = (_FAMILIES.index(name) for name in ("sp", "si", "di"))


def touches(instruction: Instruction, address_of: Callable[[str], int | None]) -> list[Touch]:
    """Return what an instruction reads and writes; ``address_of`` finds a symbol in the file.

    What gathers or scatters by a vector of addresses is left out, as is memory without a size.
    """
    mnemonic, operands = instruction.mnemonic, instruction.operands
    name = mnemonic.rpartition(" ")[2]
    done = effect(mnemonic, operands)
    if _STRING.fullmatch(name) and any(o.endswith(("(%rdi)", "(%rsi)")) for o in operands):
        return list(_of_string(name, operands))
    if done.kind in (b.ADDRESS, b.NOTHING, b.LANDING):
        return []
    out = list(_implied(done.kind, name))
    size = _size(instruction, done.kind)
    for operand in operands:
        found = _OPERAND.fullmatch(operand)
        if not found or operand[:1] == "$" or _is_register(operand) or "mm" in (found[4] or ""):
            continue
        place = _place(found, address_of)
        if place and size and (done.loads or done.stores):
            out.insert(0, place._replace(stores=done.stores, size=size))
    return out[:MOST_TOUCHES]


def _size(instruction: Instruction, kind: str) -> int:
    """Return the bytes that an operand in memory has, 0 where that is not known."""
    named = _SIZE.search(intel_text(instruction)[1])
    if named:
        return _SIZES.get(named[1], 0)
    if kind in (b.PUSH, b.POP):
        return 8
    text = instruction.text
    width = next((16 << n for n in (2, 1, 0) if f"%{'xyz'[n]}mm" in text), 0)
    spread = re.search(r"\{1to(\d+)\}", text)
    if spread:
        return width // int(spread[1])
    mnemonic = instruction.mnemonic
    resized = _WIDENS.match(mnemonic) or _NARROWS.match(mnemonic)
    if resized:
        few, many = sorted((_LETTERS[resized[1]], _LETTERS[resized[2]]))
        return width * few // many
    if _HALVES.match(mnemonic):
        return width // 2
    return 0 if "{" in text else width


def _is_register(operand: str) -> bool:
    return operand.lstrip("*").startswith("%") and ":" not in operand


def _implied(kind: str, name: str) -> Iterator[Touch]:
    """Give what an instruction touches without naming it."""
    if kind in (b.PUSH, b.CALL):
        yield Touch(True, 8, _SP, away=-8)
    elif kind in (b.POP, b.RETURN) and not name.startswith("leave"):
        yield Touch(False, 8, _SP)


def _of_string(name: str, operands: tuple[str, ...]) -> Iterator[Touch]:
    """Give what one round of a string instruction touches."""
    named = next((o for o in operands if _is_register(o)), "")
    size = register_bits(named) // 8 or _LETTERS.get(name[-1], 0)
    if size and name.startswith(("movs", "lods", "cmps")):
        yield Touch(False, size, _SI)
    if size and not name.startswith("lods"):
        yield Touch(name.startswith(("movs", "stos")), size, _DI)


def _place(found: re.Match[str], address_of: Callable[[str], int | None]) -> Touch | None:
    segment, displacement, base, index, scale = found.groups()
    if segment and segment not in _SEGMENTS:
        segment = None
    away = b.number(displacement) if displacement else 0
    if base == "%rip" or away is None:
        known = _address(displacement, address_of) if away is None else None
        if known is None or base not in (None, "%rip"):
            return None
        return Touch(False, 0, FROM_CODE, _number(index), int(scale or 1), 0, known)
    return Touch(
        False, 0, _number(base), _number(index), int(scale or 1), _SEGMENTS.get(segment or "", 0),
        away,
    )  # fmt: skip


def _address(text: str, address_of: Callable[[str], int | None]) -> int | None:
    """Return where a symbol lies, or a place so far from one."""
    found = _SYMBOL.fullmatch(text)
    at = address_of(found[1]) if found else None
    if at is None or not found or not found[2]:
        return at
    return at + int(found[2], 0)


def _number(register: str | None) -> int:
    family = family_of(register)[0] if register else ""
    return _FAMILIES.index(family) if family in _FAMILIES else NONE
