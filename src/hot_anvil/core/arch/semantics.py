"""The words that instructions of every instruction set are described in."""

import re
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Literal, NamedTuple

# Kinds of instructions.
Kind = Literal[
    "load",
    "store",  # only in the tables of mnemonics: a MOVE once its operands are read
    "move",
    "constant",
    "address",
    "extend",
    "convert",
    "add",
    "subtract",
    "multiply",
    "multiply high",
    "divide",
    "shift",
    "logic",
    "minimum or maximum",
    "compare",
    "branch",
    "select",
    "set",
    "skip",
    "jump",
    "call",
    "return",
    "trap",
    "float add",
    "float multiply",
    "float divide",
    "square root",
    "fma",
    "shuffle",
    "block",
    "atomic",
    "fence",
    "push",
    "pop",
    "landing pad",
    "nothing",
    "other",
]
MOVE: Kind = "move"
CONSTANT: Kind = "constant"
ADDRESS: Kind = "address"
EXTEND: Kind = "extend"
CONVERT: Kind = "convert"
ADD: Kind = "add"
SUB: Kind = "subtract"
MUL: Kind = "multiply"
MULHIGH: Kind = "multiply high"
DIV: Kind = "divide"
SHIFT: Kind = "shift"
LOGIC: Kind = "logic"
MINMAX: Kind = "minimum or maximum"
COMPARE: Kind = "compare"
BRANCH: Kind = "branch"
SELECT: Kind = "select"
SET: Kind = "set"
SKIP: Kind = "skip"
JUMP: Kind = "jump"
CALL: Kind = "call"
RETURN: Kind = "return"
TRAP: Kind = "trap"
FADD: Kind = "float add"
FMUL: Kind = "float multiply"
FDIV: Kind = "float divide"
FSQRT: Kind = "square root"
FMA: Kind = "fma"
SHUFFLE: Kind = "shuffle"
BLOCK: Kind = "block"
ATOMIC: Kind = "atomic"
FENCE: Kind = "fence"
PUSH: Kind = "push"
POP: Kind = "pop"
LANDING: Kind = "landing pad"
NOTHING: Kind = "nothing"
OTHER: Kind = "other"

ARITHMETIC = frozenset(
    (ADD, SUB, MUL, MULHIGH, DIV, SHIFT, LOGIC, MINMAX, FADD, FMUL, FDIV, FSQRT, FMA)
)
FLOAT = frozenset((FADD, FMUL, FDIV, FSQRT, FMA))

# What happens to the registers that an operand names.
Role = Literal["use", "define", "both"]
USE: Role = "use"
DEFINE: Role = "define"
BOTH: Role = "both"

# Conditions: signed and unsigned order, equality, and the rest by their names.
SIGNED = frozenset(("lt", "le", "gt", "ge"))
UNSIGNED = frozenset(("ult", "ule", "ugt", "uge"))
SCALABLE = -1  # lanes of a vector whose length the code does not say


class Memory(NamedTuple):
    """One memory operand."""

    base: str = ""  # family of the base register
    indexed: str = ""  # family of the index register
    symbol: str = ""
    offset: int = 0
    segment: str = ""


class Effect(NamedTuple):
    """What one instruction does."""

    kind: Kind
    bits: int = 0  # of one element; 0 when not known
    lanes: int = 1  # elements at once; 0 for a whole vector of any, SCALABLE for any length
    element: str = ""  # "i" integer, "u" unsigned integer, "f" float; "" when not known
    condition: str = ""
    memory: Memory | None = None
    loads: bool = False
    stores: bool = False
    immediate: int | None = None
    target: str = ""  # label or function it goes to
    indirect: bool = False  # goes where a register or memory says
    signed: str = ""  # "signed" or "unsigned", where the operation differs
    width: int = 0  # bits of the vector register it works in, 0 for what is not a vector's
    across: bool = False  # combines the lanes of one vector

    @property
    def packed(self) -> bool:
        """Whether it works on a whole vector."""
        return self.lanes != 1


Table = Callable[[str], Kind]


def kind_table(rows: Mapping[Kind, str]) -> Table:
    """Return a function from a mnemonic to the key of the first pattern that it matches whole.

    ``rows`` maps a key to a regular expression; these are compiled on first use, since whoever
    only asks how code is written never needs them.
    """
    compiled: list[tuple[Kind, re.Pattern[str]]] = []

    @lru_cache(maxsize=4096)
    def find(mnemonic: str) -> Kind:
        if not compiled:
            compiled.extend((key, re.compile(pattern)) for key, pattern in rows.items())
        return next((key for key, pattern in compiled if pattern.fullmatch(mnemonic)), OTHER)

    return find


def number(text: str) -> int | None:
    """Return the value of an immediate such as ``$-8``, ``#0x1f`` or ``12``; None for others."""
    try:
        return int(text.lstrip("#$"), 0)
    except ValueError:
        return None
