"""What arithmetic instructions compute, on arrays of lanes.

Source: "Parallel Thread Execution ISA", chapter 9. Approximate operations (``.approx``, ``sin`` …)
are NumPy's own, which are closer than a device's; flushing of subnormal numbers is left out.
"""

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from hot_anvil.core.arch.ptx.device.lanes import DTYPES, UnknownInstructionError

Array = NDArray[Any]
Values = Sequence[Any]
_WIDER = {
    "s16": np.int32, "u16": np.uint32, "s32": np.int64, "u32": np.uint64, "s8": np.int16,
    "u8": np.uint16,
}  # fmt: skip
_ROUND = {"rni": np.rint, "rzi": np.trunc, "rmi": np.floor, "rpi": np.ceil}
_COMPARE: dict[str, Callable[[Any, Any], Any]] = {
    "eq": np.equal, "ne": np.not_equal, "lt": np.less, "le": np.less_equal, "gt": np.greater,
    "ge": np.greater_equal, "lo": np.less, "ls": np.less_equal, "hi": np.greater,
    "hs": np.greater_equal,
}  # fmt: skip


def bits(kind: str) -> int:
    """Return the width of a type."""
    return int(kind[1:])


def is_float(kind: str) -> bool:
    """Tell whether a type is of floats."""
    return kind.startswith("f")


def compare(word: str, a: Any, b: Any, floats: bool) -> Any:
    """Return a comparison's outcome."""
    if word in _COMPARE:
        made = _COMPARE[word](a, b)
        if floats and word == "ne":  # ordered: false with NaN
            made = made & ~(np.isnan(a) | np.isnan(b))
        return made
    unordered = np.isnan(a) | np.isnan(b)
    if word in ("num", "nan"):
        return unordered if word == "nan" else ~unordered
    return _COMPARE[word[:-1]](a, b) | unordered


def multiply(parts: Sequence[str], kind: str, a: Any, b: Any) -> Any:
    """Return ``mul``: its low half, its high half, or all of it."""
    if is_float(kind):
        return a * b
    if "wide" in parts:
        return np.asarray(a).astype(_WIDER[kind]) * np.asarray(b).astype(_WIDER[kind])
    if "hi" not in parts:
        return a * b
    if bits(kind) < 64:
        product = np.asarray(a).astype(_WIDER[kind]) * np.asarray(b).astype(_WIDER[kind])
        return (product >> bits(kind)).astype(DTYPES[kind])
    return _high_64(np.asarray(a), np.asarray(b), kind == "s64")


def _high_64(a: Array, b: Array, signed: bool) -> Array:
    half, low = np.uint64(32), np.uint64(0xFFFFFFFF)
    x, y = a.view(np.uint64), b.view(np.uint64)
    x0, x1, y0, y1 = x & low, x >> half, y & low, y >> half
    middle = (x0 * y0 >> half) + (x1 * y0 & low) + x0 * y1
    high = x1 * y1 + (x1 * y0 >> half) + (middle >> half)
    if not signed:
        return np.asarray(high)
    high = high - np.where(a < 0, y, np.uint64(0)) - np.where(b < 0, x, np.uint64(0))
    return np.asarray(high.view(np.int64))


def fused(kind: str, a: Any, b: Any, c: Any) -> Any:
    """Return a * b + c, rounded once.

    Of single floats exactly, by a sum of doubles rounded to odd (Boldo, Melquiond 2008); of doubles
    with the error of the product added, which can differ in the last place.
    """
    if kind == "f32":
        product = np.asarray(a, np.float64) * np.asarray(b, np.float64)
        addend = np.asarray(c, np.float64)
        total = product + addend
        back = total - product
        error = (product - (total - back)) + (addend - back)
        raw = total.view(np.int64)
        odd = (error != 0) & (raw & 1 == 0) & np.isfinite(total)
        step = np.where((error > 0) == (total > 0), 1, -1)
        return np.where(odd, (raw + step).view(np.float64), total).astype(np.float32)
    if kind == "f64":
        return (np.asarray(a, np.longdouble) * b + c).astype(np.float64)
    return (np.asarray(a, np.float64) * b + c).astype(DTYPES[kind])


def divide(kind: str, a: Any, b: Any) -> Any:
    """Return a quotient; of whole numbers towards zero, all bits set for one by zero."""
    if is_float(kind):
        return a / b
    x, y = np.asarray(a), np.asarray(b)
    safe = np.where(y == 0, DTYPES[kind](1), y)
    made = np.abs(x.astype(object)) // np.abs(safe.astype(object)) if bits(kind) == 64 else None
    if kind.startswith("u"):
        found = x // safe
    elif made is not None:
        low, span = -(1 << 63), 1 << 64
        sign = np.where((x < 0) != (safe < 0), -1, 1).astype(object)
        found = np.array(((made * sign) - low) % span + low, np.int64)
    else:
        wide = x.astype(np.int64)
        found = np.asarray(
            np.sign(wide) * np.sign(safe) * (np.abs(wide) // np.abs(safe.astype(np.int64)))
        )
    return np.where(y == 0, DTYPES[kind](-1) if kind[0] == "s" else ~DTYPES[kind](0), found).astype(
        DTYPES[kind]
    )


def remainder(kind: str, a: Any, b: Any) -> Any:
    """Return a remainder, with the sign of the dividend; the dividend itself by zero."""
    y = np.asarray(b)
    safe = np.where(y == 0, DTYPES[kind](1), y)
    return np.where(y == 0, a, np.fmod(a, safe)).astype(DTYPES[kind])


def shift(left: bool, kind: str, a: Any, by: Any) -> Any:
    """Return a shift; by as many bits as there are or more nothing of the value is left."""
    width = bits(kind)
    dtype = DTYPES[kind]
    far = by >= width
    amount = np.where(far, 0, by).astype(dtype)
    if left:
        return np.where(far, dtype(0), a << amount)
    if kind.startswith("s"):
        return np.where(far, a >> dtype(width - 1), a >> amount)
    return np.where(far, dtype(0), a >> amount)


def convert(parts: Sequence[str], to: str, kind: str, value: Any) -> Any:
    """Return ``cvt``: a value as another type, with the rounding and clamping that are asked."""
    x = np.asarray(value)
    way = next((_ROUND[part] for part in parts if part in _ROUND), None)
    if is_float(kind) and not is_float(to):
        whole = (way or np.trunc)(x.astype(np.float64))
        info = np.iinfo(DTYPES[to])
        made = np.clip(np.nan_to_num(whole, nan=0.0), float(info.min), float(info.max))
        top = made >= float(info.max)
        safe = np.where(top, 0.0, made).astype(DTYPES[to])
        return np.where(top, DTYPES[to](info.max), safe)
    if is_float(kind) and way is not None:
        x = way(x)
    if "sat" in parts and not is_float(to):
        info = np.iinfo(DTYPES[to])
        return np.clip(x.astype(object), info.min, info.max).astype(DTYPES[to])
    if is_float(to) and is_float(kind) and bits(to) < bits(kind) and "rz" in parts:
        made = x.astype(DTYPES[to])
        over = np.abs(made.astype(np.float64)) > np.abs(x.astype(np.float64))
        return np.where(over, np.nextafter(made, DTYPES[to](0)), made)
    made = x.astype(DTYPES[to])
    if "sat" in parts:
        made = np.clip(np.nan_to_num(made, nan=0.0), DTYPES[to](0), DTYPES[to](1))
    return made


def count_bits(kind: str, value: Any) -> Any:
    """Return how many bits are set."""
    x = np.asarray(value).view(np.uint64 if bits(kind) == 64 else np.uint32).astype(np.uint64)
    for step, mask in ((1, 0x5555555555555555), (2, 0x3333333333333333), (4, 0x0F0F0F0F0F0F0F0F)):
        low = np.uint64(mask)
        x = (x & low) + (x >> np.uint64(step) & low)
    return (x * np.uint64(0x0101010101010101) >> np.uint64(56)).astype(np.uint32)


def leading_zeros(kind: str, value: Any) -> Any:
    """Return how many bits are clear above the highest one that is set."""
    x = np.asarray(value).astype(np.uint64)
    for step in (1, 2, 4, 8, 16, 32):
        x |= x >> np.uint64(step)
    return (np.uint32(bits(kind)) - count_bits("b64", x)).astype(np.uint32)


def field(kind: str, value: Any, position: Any, length: Any) -> Any:
    """Return ``bfe``: some bits of a value, made wider by their sign where the type has one."""
    width = bits(kind)
    x = np.asarray(value).astype(np.uint64)
    at, asked = np.minimum(position & 255, width), np.minimum(length & 255, width)
    mask = _low_bits(np.minimum(asked, width - at))
    made = np.where(at >= width, np.uint64(0), x >> np.minimum(at, 63).astype(np.uint64)) & mask
    if kind.startswith("s"):
        last = np.minimum(at + np.maximum(asked, 1) - 1, width - 1).astype(np.uint64)
        negative = (asked > 0) & (x >> last & np.uint64(1) == 1)  # also where nothing is left of it
        made = np.where(negative, made | ~mask, made)
    return made.astype(np.uint64 if width == 64 else np.uint32)


def insert(kind: str, value: Any, into: Any, position: Any, length: Any) -> Any:
    """Return ``bfi``: bits of a value put into another."""
    width = bits(kind)
    at, size = np.minimum(position & 255, width), np.minimum(length & 255, width)
    place = np.minimum(at, 63).astype(np.uint64)
    mask = np.where(at >= width, np.uint64(0), _low_bits(size) << place)
    x, y = np.asarray(value).astype(np.uint64), np.asarray(into).astype(np.uint64)
    return ((y & ~mask) | (x << place & mask)).astype(np.uint64 if width == 64 else np.uint32)


def _low_bits(size: Any) -> Any:
    wide = np.asarray(size).astype(np.uint64)
    full = ~np.uint64(0)
    return np.where(
        wide >= 64, full, (np.uint64(1) << np.minimum(wide, np.uint64(63))) - np.uint64(1)
    )


def reverse_bits(kind: str, value: Any) -> Any:
    """Return the bits in reverse."""
    width = bits(kind)
    x = np.asarray(value).astype(np.uint64)
    made = np.zeros_like(x)
    for place in range(width):
        bit = x >> np.uint64(place) & np.uint64(1)
        made |= bit << np.uint64(width - 1 - place)
    return made.astype(np.uint64 if width == 64 else np.uint32)


def permute(a: Any, b: Any, selector: Any) -> Any:
    """Return ``prmt`` without a mode: bytes of two words, each chosen by four bits."""
    both = np.asarray(a).astype(np.uint64) | np.asarray(b).astype(np.uint64) << np.uint64(32)
    made = np.zeros_like(both)
    chosen = np.asarray(selector).astype(np.uint64)
    for place in range(4):
        code = chosen >> np.uint64(4 * place) & np.uint64(15)
        byte = both >> ((code & np.uint64(7)) * np.uint64(8)) & np.uint64(255)
        sign = np.where(byte & np.uint64(128) != 0, np.uint64(255), np.uint64(0))
        made = made | np.where(code & np.uint64(8) != 0, sign, byte) << np.uint64(8 * place)
    return made.astype(np.uint32)


def funnel(left: bool, clamps: bool, a: Any, b: Any, by: Any) -> Any:
    """Return ``shf``: 32 bits of two words shifted as one."""
    both = np.asarray(b).astype(np.uint64) << np.uint64(32) | np.asarray(a).astype(np.uint64)
    amount = np.minimum(by, 32) if clamps else by & 31
    wide = np.asarray(amount).astype(np.uint64)
    if left:
        return (both << wide >> np.uint64(32)).astype(np.uint32)
    return (both >> wide).astype(np.uint32)


def logic3(a: Any, b: Any, c: Any, table: int) -> Any:
    """Return ``lop3``: any function of three bits, by its table."""
    made = np.zeros_like(a)
    for row in range(8):
        if table >> row & 1:
            term = a if row & 4 else ~a
            term = term & (b if row & 2 else ~b)
            made = made | (term & (c if row & 1 else ~c))
    return made


_ONE: dict[str, Callable[[Any], Any]] = {
    "neg": np.negative, "abs": np.abs, "not": np.invert, "sqrt": np.sqrt, "ex2": np.exp2,
    "lg2": np.log2, "sin": np.sin, "cos": np.cos, "tanh": np.tanh,
    "rsqrt": lambda x: (1 / np.sqrt(x)).astype(np.asarray(x).dtype),
    "rcp": lambda x: (1 / np.asarray(x)).astype(np.asarray(x).dtype),
}  # fmt: skip
_TWO: dict[str, Callable[[Any, Any], Any]] = {
    "add": np.add, "sub": np.subtract, "and": np.bitwise_and, "or": np.bitwise_or,
    "xor": np.bitwise_xor,
}  # fmt: skip


def plain(name: str, parts: Sequence[str], kind: str) -> Callable[..., Any]:
    """Return what computes an instruction of one type; raises UnknownInstructionError."""
    if name in _ONE:
        return _ONE[name]
    if name in _TWO:
        if "sat" in parts and name in ("add", "sub") and kind == "s32":
            wide = _TWO[name]
            return lambda a, b: np.clip(
                wide(np.asarray(a, np.int64), b), -(1 << 31), (1 << 31) - 1
            ).astype(np.int32)
        return _TWO[name]
    if name in ("min", "max"):
        if is_float(kind):
            return np.fmin if name == "min" else np.fmax
        return np.minimum if name == "min" else np.maximum
    if name in ("mul", "mul24"):
        return lambda a, b: multiply(parts, kind, a, b)
    if name in ("mad", "mad24"):
        if is_float(kind):
            return lambda a, b, c: fused(kind, a, b, c)
        return lambda a, b, c: multiply(parts, kind, a, b) + c
    if name == "fma":
        return lambda a, b, c: fused(kind, a, b, c)
    if name == "div":
        return lambda a, b: divide(kind, a, b)
    if name == "rem":
        return lambda a, b: remainder(kind, a, b)
    if name == "cnot":
        return lambda a: np.where(a == 0, DTYPES[kind](1), DTYPES[kind](0))
    if name == "copysign":
        return lambda a, b: np.copysign(b, a)
    if name == "sad":
        return lambda a, b, c: c + np.where(a > b, a - b, b - a)
    found = {"popc": count_bits, "clz": leading_zeros, "brev": reverse_bits}.get(name)
    if found:
        return lambda a: found(kind, a)
    raise UnknownInstructionError(f"{name}.{kind} is not known to the simulated device")
