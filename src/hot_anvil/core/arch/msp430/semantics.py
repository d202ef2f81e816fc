"""MSP430: two operands, and memory for both of them."""

import re
from functools import lru_cache

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.msp430.syntax import family_of
from hot_anvil.core.arch.records import NEVER, Semantics
from hot_anvil.core.arch.semantics import BOTH, DEFINE, USE, Effect, Memory, Role
from hot_anvil.core.arch.values import computed, constants, no_scale, nothing_hard, plain_bytes

_KIND = b.kind_table(
    {
        b.MOVE: r"movx?(?:\.b)?",
        b.CONSTANT: r"clr(?:\.b)?",
        b.ADD: r"addc?(?:\.b)?|incd?(?:\.b)?|adc(?:\.b)?",
        b.SUB: r"subc?(?:\.b)?|decd?(?:\.b)?|sbc(?:\.b)?",
        b.SHIFT: r"r[rl][acu]m?(?:\.b)?|swpb",
        b.EXTEND: "sxt",
        b.LOGIC: r"and(?:\.b)?|bi[sc](?:\.b)?|xor(?:\.b)?|inv(?:\.b)?",
        b.COMPARE: r"cmp(?:\.b)?|bit(?:\.b)?|tst(?:\.b)?",
        b.BRANCH: r"j(?!mp)[a-z]+",
        b.JUMP: "jmp|br",
        b.CALL: "call",
        b.RETURN: "reti?",
        b.PUSH: "push",
        b.POP: "pop",
        b.NOTHING: r"nop|dint|eint|clr[czn]|set[czn]",
    }
)
_CONDITION = {
    "jeq": "eq", "jz": "eq", "jne": "ne", "jnz": "ne", "jl": "lt", "jge": "ge", "jlo": "ult",
    "jnc": "ult", "jhs": "uge", "jc": "uge",
}  # fmt: skip
_STEPS = {"inc": 1, "incd": 2, "dec": 1, "decd": 2}
_PLACE = re.compile(r"(-?\w*)\((\w+)\)|@(\w+)\+?|&(.+)")


def memory_of(operand: str) -> Memory | None:
    """Return the memory that an operand such as ``4(r1)`` or ``@r12+`` names."""
    found = _PLACE.fullmatch(operand)
    if not found:
        return None
    offset = b.number(found[1]) if found[1] else 0
    base = found[2] or found[3] or ""
    return Memory(family_of(base)[0] if base else "", symbol=found[4] or "", offset=offset or 0)


@lru_cache(maxsize=65536)
def effect(mnemonic: str, operands: tuple[str, ...]) -> Effect:
    """Return what an instruction does."""
    kind = _KIND(mnemonic.removesuffix(".w"))
    last = operands[-1] if operands else ""
    if kind in (b.BRANCH, b.JUMP, b.CALL):
        indirect = bool(re.fullmatch(r"r\d+|@.*|-?\d+\(r\d+\)", last))
        target = "" if indirect else last.lstrip("#")
        return Effect(
            kind, condition=_CONDITION.get(mnemonic, mnemonic[1:]), target=target, indirect=indirect
        )
    places = [memory_of(operand) for operand in operands]
    memory = next((place for place in places if place), None)
    writes = bool(places) and places[-1] is not None and kind not in (b.COMPARE, b.PUSH)
    loads = any(place is not None for place in places[:-1]) or (
        bool(places) and places[-1] is not None and kind not in (b.MOVE, b.CONSTANT, b.POP)
    )
    immediate = b.number(operands[0]) if operands and operands[0].startswith("#") else None
    immediate = _STEPS.get(mnemonic.partition(".")[0], immediate)
    if kind == b.MOVE and operands[0].startswith("#"):
        kind = b.CONSTANT
    bits = 8 if mnemonic.endswith(".b") else 16
    return Effect(kind, bits, memory=memory, loads=loads, stores=writes, immediate=immediate)


@lru_cache(maxsize=65536)
def roles(mnemonic: str, operands: tuple[str, ...]) -> tuple[Role, ...]:
    """Return what happens to the registers of each operand."""
    kind = _KIND(mnemonic.removesuffix(".w"))
    out = [BOTH if o.startswith("@") and o.endswith("+") else USE for o in operands]
    reads = kind in (b.COMPARE, b.PUSH, b.BRANCH, b.JUMP, b.CALL)
    if operands and not reads and memory_of(operands[-1]) is None:
        out[-1] = DEFINE if kind in (b.MOVE, b.CONSTANT, b.POP) else BOTH
    return tuple(out)


def _writeback(operands: tuple[str, ...], done: Effect) -> tuple[int, int]:
    moves = any(re.search(r"@\w+\+$", operand) for operand in operands)
    return 0, done.bits // 8 if moves else 0


SEMANTICS = Semantics(
    effect=effect,
    roles=roles,
    hard_writes=nothing_hard,
    zero=frozenset(),
    constant=constants(effect),
    computed=computed,
    scale=no_scale,
    writeback=_writeback,
    access_bytes=plain_bytes,
    pairs=NEVER,
    carry=re.compile("addc|subc|adc|sbc"),
    flag_selects=NEVER,
    scaled=NEVER,
    bit_tests=NEVER,
    narrow=True,
    atomic_names_tell=True,
)
