"""How operands are said; ARM and Thumb, which write them alike, take it over."""

import re

from hot_anvil.core.arch.records import Moved, Operands, Wording
from hot_anvil.core.arch.wording import fits, in_brackets, no_idiom, without_signs

_PLACE = re.compile(r"\[(\w+)(?:, ?([^\]]*))?\](!?)")
_CHANGE = re.compile(r"(lsl|lsr|asr|ror|[su]xt[bhwx]|rrx)(?: #?(\w+))?")
_SHIFTS = {
    "lsl": "<< {}", "lsr": ">> {}, unsigned", "asr": ">> {}, signed", "ror": "rotated right by {}",
    "rrx": ">> 1 with the carry",
}  # fmt: skip
_BITS = {"b": "8", "h": "16", "w": "32", "x": "64"}
_PART = re.compile(r"#?:(lo12|lower16|upper16|got|got_lo12|\w+):(.+)")
_PARTS = {
    "lo12": "the low 12 bits of {}", "lower16": "the low 16 bits of {}",
    "upper16": "the upper 16 bits of {}", "got": "the table entry of {}",
    "got_lo12": "the low 12 bits of the table entry of {}",
}  # fmt: skip


def operand(text: str) -> str:
    """Return an operand as it is read: memory in brackets, shifts and extensions in words."""
    place, changed, part = _PLACE.fullmatch(text), _CHANGE.fullmatch(text), _PART.fullmatch(text)
    if place:
        return _address(place[1], place[2] or "")
    if changed:
        return _changed(changed[1], changed[2] or "")
    if part:
        return _PARTS.get(part[1], f"{part[1]} of {{}}").format(part[2])
    return without_signs(text)


def _address(base: str, inside: str) -> str:
    index, _, change = (piece.strip() for piece in inside.partition(","))
    if change:
        return f"[{base} + ({operand(index)} {operand(change)})]"
    said = operand(index)
    plain = re.fullmatch(r"[a-z]\w*", said)  # a register, not a number or a part of an address
    return in_brackets([base, said], "") if plain else in_brackets([base], said)


def _changed(how: str, count: str) -> str:
    if how in _SHIFTS:
        return _SHIFTS[how].format(count)
    kind = "sign" if how[0] == "s" else "zero"
    shifted = f", << {count}" if count and count != "0" else ""
    return f"{kind} extended from {_BITS[how[3]]} bits{shifted}"


def moved(operands: Operands) -> Moved:
    """Take an access apart that moves its base register before or after."""
    for k, text in enumerate(operands):
        place = _PLACE.fullmatch(text)
        if place and place[3] and place[2]:
            plain = (*operands[:k], f"[{place[1]}]", *operands[k + 1 :])
            return Moved(plain, before=f"{_step(place[1], place[2])}, then ")
        if place and k == len(operands) - 2:
            return Moved(operands[:-1], after=f", then {_step(place[1], operands[-1])}")
    return Moved(operands)


def _step(base: str, by: str) -> str:
    plain = by.strip().lstrip("#")
    return f"{base} -= {plain[1:]}" if plain.startswith("-") else f"{base} += {plain}"


WORDING = Wording(operand=operand, idiom=no_idiom, fitted=fits, moved=moved)
