"""The operators of the common language, on arrays of 64-bit values, one for each state."""

from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

Values = NDArray[np.uint64]
_U = np.uint64


@lru_cache(maxsize=1 << 16)
def constant(value: int) -> Values:
    """Return a number as an array of one: single numbers of NumPy warn when they wrap round."""
    return np.array([value & ((1 << 64) - 1)], _U)


def low(width: int, a: Values) -> Values:
    """Return the low bits."""
    return a if width == 64 else a & constant((1 << width) - 1)


def sign(width: int, a: Values) -> Values:
    """Return the low bits as a signed number."""
    if width == 64:
        return a
    by = 64 - width
    made: Values = ((a << constant(by)).view(np.int64) >> np.int64(by)).view(_U)
    return made


def high_unsigned(a: Values, b: Values) -> Values:
    """Return the upper 64 bits of an unsigned product, by halves."""
    m, k = constant(0xFFFFFFFF), constant(32)
    al, ah, bl, bh = a & m, a >> k, b & m, b >> k
    t = ah * bl + ((al * bl) >> k)
    u = al * bh + (t & m)
    upper: Values = ah * bh + (t >> k) + (u >> k)
    return upper


def high_signed(a: Values, b: Values) -> Values:
    """Return the upper 64 bits of a signed product."""
    upper: Values = high_mixed(a, b) - np.where(b.view(np.int64) < 0, a, constant(0))
    return upper


def high_mixed(a: Values, b: Values) -> Values:
    """Return the upper 64 bits of a signed times an unsigned value."""
    upper: Values = high_unsigned(a, b) - np.where(a.view(np.int64) < 0, b, constant(0))
    return upper


def ones(a: Values) -> Values:
    """Count the bits that are set (Warren 2012, section 5-1)."""
    a = a - ((a >> constant(1)) & constant(0x5555555555555555))
    m = constant(0x3333333333333333)
    a = (a & m) + ((a >> constant(2)) & m)
    a = (a + (a >> constant(4))) & constant(0x0F0F0F0F0F0F0F0F)
    return (a * constant(0x0101010101010101)) >> constant(56)


def leading_zeros(a: Values) -> Values:
    """Count the zeros above the highest bit that is set, 64 for 0."""
    for n in (1, 2, 4, 8, 16, 32):
        a = a | (a >> constant(n))
    return constant(64) - ones(a)


def trailing_zeros(a: Values) -> Values:
    """Count the zeros below the lowest bit that is set, 64 for 0."""
    return ones(~a & (a - constant(1)))


def reversed_bits(a: Values) -> Values:
    """Return the 64 bits in the opposite order."""
    for n, mask in ((1, 0x5555555555555555), (2, 0x3333333333333333), (4, 0x0F0F0F0F0F0F0F0F)):
        a = ((a >> constant(n)) & constant(mask)) | ((a & constant(mask)) << constant(n))
    return np.ascontiguousarray(a).byteswap()


def divided(kind: str, width: int, high: Values, lower: Values, by: Values) -> Values:
    """Divide a value of twice the width as x86 does; exact, state by state.

    ``kind``: "quotient", "remainder" or "fault", and "signed" or "unsigned".
    """
    high, lower, by = np.broadcast_arrays(high, lower, by)
    out = np.zeros(by.shape, _U)
    what, _, signed = kind.partition(" ")
    for k, (h, n, d) in enumerate(zip(high.tolist(), lower.tolist(), by.tolist(), strict=True)):
        n |= h << width
        if signed == "signed":
            n -= (n >> (2 * width - 1)) << (2 * width)
            d -= (d >> (width - 1)) << width
        q = abs(n) // abs(d) if d else 0
        q = -q if d and (n < 0) != (d < 0) else q
        top = 1 << (width - 1)
        fits = -top <= q < top if signed == "signed" else q < 2 * top
        if what == "fault":
            out[k] = not d or not fits
        elif d and fits:
            out[k] = (q if what == "quotient" else n - q * d) & (2 * top - 1)
    return out


def quotient(kind: str, width: int, zero: int, a: Values, b: Values) -> Values:
    """Divide without faults, rounding to 0; ``zero`` is the quotient for a divisor of 0.

    A remainder for a divisor of 0 is the dividend. ``kind`` as for ``divided``.
    """
    a, b = np.broadcast_arrays(a, b)
    out = np.zeros(a.shape, _U)
    what, _, signed = kind.partition(" ")
    mask = (1 << width) - 1
    for k, (x, y) in enumerate(zip(a.tolist(), b.tolist(), strict=True)):
        x, y = x & mask, y & mask
        if signed == "signed":
            x -= (x >> (width - 1)) << width
            y -= (y >> (width - 1)) << width
        q, r = zero, x
        if y:
            q = abs(x) // abs(y)
            q = -q if (x < 0) != (y < 0) else q
            r = x - q * y
        out[k] = (q if what == "quotient" else r) & mask
    return out


def _right(a: Values, n: Values) -> Values:
    return (a.view(np.int64) >> np.minimum(n, constant(63)).view(np.int64)).view(_U)


def _less(a: Values, b: Values) -> Values:
    return (a.view(np.int64) < b.view(np.int64)).astype(_U)


OPERATORS: Mapping[str, Callable[..., Any]] = {
    "add": lambda a, b: a + b,
    "sub": lambda a, b: a - b,
    "mul": lambda a, b: a * b,
    "and": lambda a, b: a & b,
    "or": lambda a, b: a | b,
    "exclusive or": lambda a, b: a ^ b,
    "not": lambda a: ~a,
    "left": lambda a, n: np.where(n < 64, a << (n & constant(63)), constant(0)),
    "right": lambda a, n: np.where(n < 64, a >> (n & constant(63)), constant(0)),
    "arithmetic right": _right,
    "equal": lambda a, b: (a == b).astype(_U),
    "below": lambda a, b: (a < b).astype(_U),
    "less": _less,
    "choose": lambda c, a, b: np.where(c != 0, a, b),
    "low": low,
    "sign": sign,
    "high unsigned": high_unsigned,
    "high signed": high_signed,
    "high mixed": high_mixed,
    "ones": ones,
    "leading zeros": leading_zeros,
    "trailing zeros": trailing_zeros,
    "reversed bits": reversed_bits,
    "reversed bytes": lambda a: np.ascontiguousarray(a).byteswap(),
    "divided": divided,
    "quotient": quotient,
}
