"""The words that instructions of every instruction set are described in."""

import re
from collections.abc import Callable
from functools import lru_cache
from typing import NamedTuple

# Kinds of instructions.
MOVE, CONSTANT, ADDRESS, EXTEND, CONVERT = "move", "constant", "address", "extend", "convert"
ADD, SUB, MUL, MULHIGH, DIV = "add", "subtract", "multiply", "multiply high", "divide"
SHIFT, LOGIC, MINMAX = "shift", "logic", "minimum or maximum"
COMPARE, BRANCH, SELECT, SET, SKIP = "compare", "branch", "select", "set", "skip"
JUMP, CALL, RETURN, TRAP = "jump", "call", "return", "trap"
FADD, FMUL, FDIV, FSQRT, FMA = "float add", "float multiply", "float divide", "square root", "fma"
SHUFFLE, BLOCK, ATOMIC, FENCE = "shuffle", "block", "atomic", "fence"
PUSH, POP, LANDING, NOTHING, OTHER = "push", "pop", "landing pad", "nothing", "other"

ARITHMETIC = frozenset(
    (ADD, SUB, MUL, MULHIGH, DIV, SHIFT, LOGIC, MINMAX, FADD, FMUL, FDIV, FSQRT, FMA)
)
FLOAT = frozenset((FADD, FMUL, FDIV, FSQRT, FMA))

# What happens to the registers that an operand names.
USE, DEFINE, BOTH = "use", "define", "both"

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


class Deed(NamedTuple):
    """What one instruction does."""

    kind: str
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


class Meaning(NamedTuple):
    """What instructions of one instruction set mean."""

    deed: Callable[[str, tuple[str, ...]], Deed]
    roles: Callable[[str, tuple[str, ...]], tuple[str, ...]]
    stack: frozenset[str]  # families of the stack pointer
    frames: frozenset[str]  # families that may be a frame pointer
    frame_setup: re.Pattern[str]  # a canonical instruction that makes one a frame pointer
    clobbered: frozenset[str]  # families that a call may change
    parameters: frozenset[str]  # families that parameters arrive in
    hard_writes: Callable[[str, tuple[str, ...]], tuple[str, ...]]  # families written unnamed


Table = Callable[[str], str]


def kind_table(rows: dict[str, str]) -> Table:
    """Return a function from a mnemonic to the key of the first pattern that it matches whole.

    ``rows`` maps a key to a regular expression.
    """
    compiled = [(key, re.compile(pattern)) for key, pattern in rows.items()]

    @lru_cache(maxsize=4096)
    def find(mnemonic: str) -> str:
        return next((key for key, pattern in compiled if pattern.fullmatch(mnemonic)), OTHER)

    return find


def number(text: str) -> int | None:
    """Return the value of an immediate such as ``$-8``, ``#0x1f`` or ``12``; None for others."""
    try:
        return int(text.lstrip("#$"), 0)
    except ValueError:
        return None


def helper(name: str) -> tuple[str, str] | None:
    """Return (kind, signedness) of a compiler's own arithmetic function, None for others."""
    found = _HELPER.fullmatch(name)
    if not found:
        return None
    kind = next((key for key, pattern in _HELPERS if re.match(pattern, found[1])), "")
    return (kind, "unsigned" if found[1].startswith("u") else "signed") if kind else None


_HELPER = re.compile(
    r"(?:__aeabi_|__mspabi_|__)?((?:u?div|u?mod|[us]?mul|mpy|rem|ashl|ashr|lshr|l?mul|u?l?div"
    r"|f?add|f?sub|fmul|fdiv|dadd|dmul|ddiv|srl|sra|sll|ul?div)\w*)"
)
_HELPERS = (
    (DIV, r"u?l?div(?!.*[sdt]f3)|u?mod|u?rem"),
    (FDIV, r"fdiv|ddiv|div.*[sdt]f3"),
    (FMUL, r"fmul|dmul|mul.*[sdt]f3"),
    (FADD, r"(?:f|d)?(?:add|sub)"),
    (MUL, r"[lus]?mul|mpy"),
    (SHIFT, r"ash|lsh|srl|sra|sll"),
)
