"""Cycles of MSP430 instructions: the family's user's guide, tables of format I and II.

They go by how the operands are reached. The numbers 0, 1, 2, 4, 8 and -1 can come from the constant
generator and then cost what a register does; whether they do, the size of an instruction tells.
For the original core; MSP430X differs.
"""

import re
from functools import lru_cache

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.costs import Cost, Costs

_REGISTER, _INDIRECT, _STEPPING, _IMMEDIATE, _INDEXED = range(5)
# Source -> cycles where the destination is a register, the program counter, memory.
_TWO = ((1, 2, 4), (2, 2, 5), (2, 3, 5), (2, 3, 5), (3, 3, 6))
_ROTATE, _PUSH, _CALL = (1, 3, 3, 3, 4), (3, 4, 5, 4, 5), (4, 4, 5, 5, 5)
_GENERATED = (0, 1, 2, 4, 8, -1, 0xFFFF)
_TWO_OPERANDS = re.compile(r"mov|addc?|subc?|cmp|dadd|bi[tcs]|xor|and")
_ONE_OPERAND = re.compile(r"rr[ac]|swpb|sxt")
_JUMP = re.compile(r"j[a-z]{1,3}")
# Emulated: the source that each stands for is made by the constant generator.
_EMULATED = re.compile(r"clr|inc|incd|dec|decd|tst|inv|adc|sbc|dadc")
_FIXED = {"nop": 1, "dint": 1, "eint": 1, "setc": 1, "setz": 1, "setn": 1, "clrc": 1, "clrz": 1,
          "clrn": 1, "ret": 3, "reti": 5}  # fmt: skip


def _how(operand: str, generated: bool = True) -> int:
    """Return how an operand is reached."""
    if operand.startswith("#"):
        known = b.number(operand[1:]) in _GENERATED and generated
        return _REGISTER if known else _IMMEDIATE
    if operand.startswith("@"):
        return _STEPPING if operand.endswith("+") else _INDIRECT
    return _REGISTER if re.fullmatch(r"r\d+|pc|sp|sr", operand) else _INDEXED


def _to(operand: str) -> int:
    if operand in ("pc", "r0"):
        return 1
    return 0 if _how(operand) == _REGISTER else 2


@lru_cache(maxsize=4096)
def cost(mnemonic: str, operands: tuple[str, ...], size: int) -> Cost | None:
    """Return the cycles of an instruction."""
    name = mnemonic.partition(".")[0]
    if name in _FIXED:
        return Cost(_FIXED[name], _FIXED[name])
    least, most = (_of_operands(name, operands, generated) for generated in (True, False))
    if least != most and size > 0:
        words = 1 + sum(_how(operand) == _INDEXED for operand in operands)
        least = most = least if size == 2 * words else most
    if not least:
        return None
    when = f"{most} if the constant is a word of its own" if most != least else ""
    return Cost(least, most, when)


def _of_operands(name: str, operands: tuple[str, ...], generated: bool) -> int:
    if len(operands) == 2 and _TWO_OPERANDS.fullmatch(name):
        return _TWO[_how(operands[0], generated)][_to(operands[1])]
    if len(operands) != 1:
        return 0
    (one,) = operands
    if _JUMP.fullmatch(name):
        return 2
    if name == "br":
        return _TWO[_how(one, generated)][1]
    if name == "pop":
        return _TWO[_STEPPING][_to(one)]
    if name in ("rla", "rlc"):  # adds the operand to itself
        return _TWO[_how(one)][_to(one)]
    if _EMULATED.fullmatch(name):
        return _TWO[_REGISTER][_to(one)]
    if _ONE_OPERAND.fullmatch(name):
        return _ROTATE[_how(one)]
    return {"push": _PUSH, "call": _CALL}.get(name, (0,) * 5)[_how(one, generated)]


COSTS = Costs(cost, "the original core, not MSP430X", lambda mnemonic: 0)
