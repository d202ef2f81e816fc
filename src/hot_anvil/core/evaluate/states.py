"""The states that code is tried on: registers, flags and memory, random and at the edges.

Half of what a change would break shows only at special values, so many states hold edges: those
of the number formats, and the constants of the code itself with their neighbours and sums. Some
registers lie near each other, so that accesses through two pointers meet.
"""

from collections.abc import Collection
from zlib import crc32

import numpy as np

from hot_anvil.core.evaluate.operators import Values

STATES, SEED = 256, 1
_U = np.uint64
_EDGES = [
    0, 1, 2, 3, 7, 8, 31, 32, 33, 63, 64, 0x7F, 0x80, 0xFF, 0x100, 0x7FFF, 0x8000, 0xFFFF, 0x10000,
    2**31 - 1, 2**31, 2**32 - 1, 2**32, 2**63 - 1, 2**63, 2**64 - 1, 2**64 - 2, 2**64 - 0x80,
    2**64 - 0x8000, 2**64 - 2**31, 0x5555555555555555, 0xAAAAAAAAAAAAAAAA,
]  # fmt: skip
_MOST = 12  # constants of the code that states are made from
_STACK = {64: 0x7FFD00000000, 32: 0x7F000000, 16: 0x7000}
_MASK = 2**64 - 1


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
        own = sorted(constants, key=lambda c: (c > _MASK // 2, c))[:_MOST]
        near = {c + d & _MASK for c in own for d in (-1, 0, 1)}
        near |= {a + s * b & _MASK for a in own for b in own for s in (1, -1)}
        self.edges = np.array(sorted({*_EDGES, *near}), _U)
        self._shared = np.random.default_rng(seed).integers(0, 2**64, count, dtype=_U)
        edges = self.edges
        self._words = np.concatenate(
            [edges, (edges & _U(0xFFFFFFFF)) | (edges << _U(32)),
             (edges & _U(0xFF)) * _U(0x0101010101010101)]
        )  # fmt: skip
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
        edge, short, close = count * 3 // 8, count * 5 // 8, count * 3 // 4
        values[:edge] = rng.choice(self.edges, edge)
        values[edge:short] >>= rng.integers(0, 64, short - edge, dtype=_U)
        near = rng.integers(0, 24, close - short, dtype=_U)
        values[short:close] = self._shared[short:close] + near
        return values if self.width == 64 else values & _U((1 << self.width) - 1)

    def memory(self, at: Values) -> Values:
        """Return the 8 bytes that memory holds at addresses that are multiples of 8."""
        mixed = _mixed(at * _U(0x9E3779B97F4A7C15))
        edge = self._words[(mixed % _U(len(self._words))).astype(np.intp)]
        return np.where(self._plain, edge, mixed)


def _mixed(x: Values) -> Values:
    """Return a hash of each value (the finisher of Steele, Lea and Flood 2014)."""
    x = (x ^ (x >> _U(30))) * _U(0xBF58476D1CE4E5B9)
    x = (x ^ (x >> _U(27))) * _U(0x94D049BB133111EB)
    return x ^ (x >> _U(31))
