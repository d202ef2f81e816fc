"""Run steps on many states at once."""

from collections.abc import Mapping, Sequence

import numpy as np

from hot_anvil.core.arch.operations import ALL, Expr, Step
from hot_anvil.core.evaluate.operators import OPERATORS, Values, constant, low
from hot_anvil.core.evaluate.states import States

_U = np.uint64


class Run:
    """One run: registers, what was stored, where it faults."""

    def __init__(
        self, states: States, names: Mapping[str, str] | None = None, undefined: int = 0
    ) -> None:
        self.states = states
        self.names = names or {}  # register -> the one whose drawn value it holds before
        self.registers: dict[str, Values] = {}
        self.stored: list[tuple[Values, int, Values]] = []  # address, bytes, value
        self.faults = constant(0)
        self.undefined = constant(ALL if undefined else 0)
        self.met_undefined = False

    def register(self, name: str) -> Values:
        """Return what a register holds now."""
        if name not in self.registers:
            self.registers[name] = self.states.register(self.names.get(name, name))
        return self.registers[name]

    def load(self, count: int, at: Values) -> Values:
        """Return bytes of memory, with what was stored there over what it held before."""
        states, seven, eight = self.states, constant(7), constant(8)
        start, shift = at & ~seven, (at & seven) * eight
        value = states.memory(start) >> shift
        value = value | ((states.memory(start + eight) << constant(1)) << (constant(63) - shift))
        for where, size, stored in self.stored:
            value = _laid_over(value, at, count, where, size, stored)
        return low(8 * count, value)

    def value(self, e: Expr) -> Values:
        """Return what an expression is now."""
        operator = e[0]
        if operator == "reg":
            return self.register(e[1])
        if operator == "const":
            return constant(e[1])
        if operator == "load":
            return self.load(e[1], self.value(e[2]))
        if operator == "undefined":
            self.met_undefined = True
            return self.undefined
        parts = [self.value(part) if isinstance(part, tuple) else part for part in e[1:]]
        found: Values = OPERATORS[operator](*parts)
        return found

    def run(self, steps: Sequence[Step]) -> "Run":
        """Do the steps, one after another."""
        with np.errstate(all="ignore"):
            for step in steps:
                if step[0] == "set":
                    self.registers[step[1]] = self.value(step[2])
                elif step[0] == "store":
                    at, value = self.value(step[2]), self.value(step[3])
                    self.stored.append((at, step[1], low(8 * step[1], value)))
                else:
                    self.faults = self.faults | self.value(step[1])
        return self

    def full(self, values: Values) -> Values:
        """Return a value for every state."""
        return np.broadcast_to(values, (self.states.count,))


def _laid_over(
    value: Values, at: Values, count: int, where: Values, size: int, stored: Values
) -> Values:
    """Return what a load at ``at`` sees after a store of ``size`` bytes at ``where``."""
    bytes_ = constant((1 << 8 * size) - 1)
    ahead, behind = where - at, at - where
    inside = ahead < _U(count)
    up = (ahead & constant(7)) * constant(8)
    mask = np.where(inside, bytes_ << up, _U(0))
    over = np.where(inside, stored << up, _U(0))
    begun = (behind < _U(size)) & (behind != 0)
    down = (behind & constant(7)) * constant(8)
    mask = np.where(begun, bytes_ >> down, mask)
    over = np.where(begun, stored >> down, over)
    return (value & ~mask) | (over & mask)
