"""Values that instructions take from behind a label: numbers, tables of them, texts."""

import re
import struct
from collections.abc import Iterator, Mapping

from hot_anvil.core.arch import semantics as b

# Labels that gcc, clang and rustc give to data that nothing writes: numbers, texts, tables. Others,
# such as the anchors of sections, may stand before variables.
_CONSTANT = re.compile(
    r"\.LC(?:PI)?\d\w*|\$LC\d\w*|CSWTCH\.\d+"
    r"|\.L(?:\.str|switch\.table|__const|__unnamed|anon)[\w.$]*"
)
_SIZES = {".byte": 1, ".short": 2, ".hword": 2, ".2byte": 2, ".value": 2, ".long": 4, ".word": 4,
          ".4byte": 4, ".quad": 8, ".xword": 8, ".8byte": 8, ".dword": 8}  # fmt: skip
_FLOATS = {32: "<f", 64: "<d"}
_TEXTS = (".string", ".asciz", ".ascii")
_PART = re.compile(r"(\.\w+)\s+((?:\"(?:\\.|[^\"\\])*\"|[^;\"])*)")
_MOST = 8  # values told of a table
_LONGEST = 44  # letters told of a text
_SMALL = 16  # bytes of what is no table
_PLAIN = 1 << 16  # numbers from which bits tell more than digits


def value_behind(directives: str, done: b.Effect) -> str:
    """Return in words what stands behind a label for an instruction that does ``done``, "" if not
    known: a text in quotes, a float as floats are printed, else integers, large ones by their bits.

    ``directives`` are parted by "; "; a long constant is cut, which the words then say.
    """
    cut = "... (" in directives
    parts = _PART.findall(directives.partition("... (")[0])
    texts = [text.strip() for name, text in parts if name in _TEXTS]
    if texts:
        told = "".join(text[1:-1] for text in texts)
        return f'"{told[:_LONGEST]}.."' if cut or len(told) > _LONGEST else f'"{told}"'
    if any(name not in _SIZES and name != ".zero" for name, _ in parts):
        return ""
    if not done.loads and len(bytes_of(directives)) <= _SMALL:
        return ""  # of an address alone nothing is taken from there
    if done.kind == b.LOGIC:
        return _listed(list(_masks(directives, done.bits or 64)), cut)
    if done.element == "f" and done.bits in _FLOATS:
        return _listed(list(_floats(directives, done.bits)), cut)
    sizes = {_SIZES[name] for name, _ in parts if name in _SIZES}
    if len(sizes) != 1:
        return ""
    bits = 8 * sizes.pop()
    return _listed([_integer(value, bits) for value in _integers(parts)], cut)


def constants_named(operands: tuple[str, ...], constants: Mapping[str, str]) -> str:
    """Return the data behind the first constant that operands name, "" for none."""
    for label in _CONSTANT.findall(",".join(operands)):
        if constants.get(label):
            return constants[label]
    return ""


def bytes_of(directives: str) -> bytes:
    """Return the bytes that directives of numbers lay down, least first."""
    return b"".join(_bytes(directives))


def _bytes(directives: str) -> Iterator[bytes]:
    for directive, text in re.findall(r"(\.\w+)\s+(-?\w+)", directives):
        value = b.number(text)
        if directive == ".zero" and value is not None:
            yield bytes(min(value, 1 << 12))
        elif directive in _SIZES and value is not None:
            size = _SIZES[directive]
            yield (value & (1 << 8 * size) - 1).to_bytes(size, "little")


def _floats(directives: str, bits: int) -> Iterator[str]:
    data = bytes_of(directives.partition("... (")[0])
    size = bits // 8
    for start in range(0, len(data) - size + 1, size):
        (value,) = struct.unpack_from(_FLOATS[bits], data, start)
        yield repr(value) if bits == 64 else _single(value)


def _masks(directives: str, bits: int) -> Iterator[str]:
    """Give the bits of each lane: what floats are masked by is no float."""
    data, size = bytes_of(directives.partition("... (")[0]), bits // 8
    for start in range(0, len(data) - size + 1, size):
        yield f"{int.from_bytes(data[start : start + size], 'little'):#x}"


def _single(value: float) -> str:
    """Return the shortest digits that tell a float of 32 bits from its neighbours."""
    for digits in range(1, 10):
        text = f"{value:.{digits}g}"
        try:
            same = struct.pack("<f", float(text)) == struct.pack("<f", value)
        except OverflowError:  # rounded beyond the largest
            continue
        if same:
            return text if any(sign in text for sign in ".enai") else f"{text}.0"
    return repr(value)


def _integers(parts: list[tuple[str, str]]) -> Iterator[int]:
    for name, text in parts:
        value = b.number(text.split("#")[0].split("//")[0].strip())
        if name == ".zero" and value is not None:
            yield 0
        elif value is not None:
            yield value


def _integer(value: int, bits: int) -> str:
    signed = value - (1 << bits) if value >= 1 << (bits - 1) else value
    return str(signed) if -_PLAIN < signed < _PLAIN else f"{value & (1 << bits) - 1:#x}"


def _listed(values: list[str], cut: bool) -> str:
    if not values:
        return ""
    if len(values) > 1 and len(set(values)) == 1 and not cut:
        return f"{len(values)} x {values[0]}"
    shown = ", ".join(values[:_MOST])
    return f"{shown}, .." if cut or len(values) > _MOST else shown
