"""The states that code is tried on: registers, flags and memory, random and at the edges.

Half of what a change would break shows only at special values, so each eighth of the states is
drawn otherwise: mostly zeros with the constants of the code, or those with their neighbours, sums
and differences; one of two values, so that registers are often equal; edges of the number formats;
short numbers; numbers near each other, so that accesses through two pointers meet; any number.
"""

from collections.abc import Collection
from zlib import crc32

import numpy as np

from hot_anvil.core.evaluate.operators import Values

STATES, SEED = 1024, 1
_U = np.uint64
_EDGES = [
    0, 1, 2, 3, 7, 8, 31, 32, 33, 63, 64, 0x7F, 0x80, 0xFF, 0x100, 0x7FFF, 0x8000, 0xFFFF, 0x10000,
    2**31 - 1, 2**31, 2**32 - 1, 2**32, 2**63 - 1, 2**63, 2**64 - 1, 2**64 - 2, 2**64 - 0x80,
    2**64 - 0x8000, 2**64 - 2**31, 0x5555555555555555, 0xAAAAAAAAAAAAAAAA,
]  # fmt: skip
_MOST = 16  # constants of the code that states are made from
_STACK = {64: 0x7FFD00000000, 32: 0x7F000000, 16: 0x7000}
_MASK = 2**64 - 1
# Numbers that the language's own masks bring in, seldom those that a program tests for.
_MASKS = frozenset(
    {0, 1, _MASK} | {m for n in (8, 16, 32) for m in ((1 << n) - 1, _MASK ^ ((1 << n) - 1))}
)


class States:
    """Values of registers, each drawn when first asked for; memory by a hash of the address."""

    def __init__(
        self,
        width: int,
        flags: Collection[str],
        stack: Collection[str],
        constants: Collection[int] = (),
        count: int = STATES,
        seed: int = SEED,
    ) -> None:
        self.width = width
        self.flags = flags
        self.stack = stack
        self.count = count
        self.seed = seed
        self._known: dict[str, Values] = {}
        own = sorted(constants, key=lambda c: (c in _MASKS, min(c, -c & _MASK), c))[:_MOST]
        near = {c + d & _MASK for c in own for d in (-1, 0, 1)}
        near |= {a + s * b & _MASK for a in own for b in own for s in (1, -1)}
        self.own = np.array(own or [1], _U)
        self.near = np.array(sorted(near or {0, 1}), _U)
        self.edges = np.array(_EDGES, _U)
        rng = np.random.default_rng(seed)
        self._shared = rng.integers(0, 2**64, count, dtype=_U)
        self._either = rng.choice(np.concatenate([self.edges, self.near]), (2, count))
        count_others = len(self.edges) + len(self.near)
        zeros = np.zeros(count_others // 2, _U)
        pool = np.concatenate(
            [self.edges, self.near, zeros, rng.choice(self.own, 2 * count_others)]
        )
        halves = [  # whatever part of a word is loaded
            (pool & _U((1 << bits) - 1)) * _U(_MASK // ((1 << bits) - 1)) for bits in (32, 16, 8)
        ]
        self._words = np.concatenate([pool, *halves])
        self._plain = np.arange(count) % 3 == 0  # states whose memory holds edges

    def register(self, name: str) -> Values:
        """Return what a register, or a flag, holds before."""
        if name not in self._known:
            self._known[name] = self._draw(name)
        return self._known[name]

    def put(self, name: str, values: Values) -> None:
        """Say what a register holds before."""
        self._known[name] = values

    def _draw(self, name: str) -> Values:
        rng, count = np.random.default_rng([self.seed, crc32(name.encode())]), self.count
        if name in self.flags:
            return rng.integers(0, 2, count, dtype=_U)
        if name in self.stack and self.width > 8:  # apart from all that pointers may reach
            where = rng.integers(0, 2**8, count, dtype=_U) * _U(16)
            return _U(_STACK[self.width]) + where
        values = rng.integers(0, 2**64, count, dtype=_U)
        eighth = count // 8
        parts = [values[k * eighth : (k + 1) * eighth] for k in range(8)]
        parts[0][:] = _mostly_zero(rng, eighth, self.own)
        parts[1][:] = _mostly_zero(rng, eighth, self.near)
        one = rng.integers(0, 2, eighth)
        parts[2][:] = self._either[one, np.arange(2 * eighth, 3 * eighth)]
        narrow = self.width <= 16  # several registers make one number
        for part, pool in ((parts[3], self.edges), (parts[4], self.near)):
            part[:] = _mostly_zero(rng, eighth, self.own) if narrow else rng.choice(pool, eighth)
        parts[5] >>= rng.integers(0, 64, eighth, dtype=_U)
        shared = self._shared[6 * eighth : 7 * eighth]
        parts[6][:] = shared + rng.integers(0, 24, eighth, dtype=_U)
        return values if self.width == 64 else values & _U((1 << self.width) - 1)

    def memory(self, at: Values) -> Values:
        """Return the 8 bytes that memory holds at addresses that are multiples of 8."""
        mixed = _mixed(at * _U(0x9E3779B97F4A7C15))
        edge = self._words[(mixed % _U(len(self._words))).astype(np.intp)]
        return np.where(self._plain, edge, mixed)


def _mostly_zero(rng: np.random.Generator, count: int, others: Values) -> Values:
    """Draw values of which many are 0: parts of a wide number are tested together."""
    values = rng.choice(others, count)
    kind = rng.random(count)
    values[kind < 0.6] = _U(0)
    values[kind > 0.95] = _U(_MASK)
    return values


def _mixed(x: Values) -> Values:
    """Return a hash of each value (the finisher of Steele, Lea and Flood 2014)."""
    x = (x ^ (x >> _U(30))) * _U(0xBF58476D1CE4E5B9)
    x = (x ^ (x >> _U(27))) * _U(0x94D049BB133111EB)
    return x ^ (x >> _U(31))
