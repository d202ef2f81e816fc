"""AVR: eight bits at a time, so wide values take runs of instructions."""

import re
from functools import lru_cache

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.avr.syntax import family_of
from hot_anvil.core.arch.records import NEVER, Semantics
from hot_anvil.core.arch.semantics import BOTH, DEFINE, USE, Effect, Memory, Role
from hot_anvil.core.arch.values import computed, constants, no_scale, plain_bytes

_KIND = b.kind_table(
    {
        "load": "ld|ldd|lds|e?lpm|in",
        "store": "st|std|sts|out|sbi|cbi|xch|las|lac|lat",
        b.MOVE: "movw?",
        b.CONSTANT: "ldi|clr|ser",
        b.ADD: "add|adc|adiw|inc",
        b.SUB: "sub|sbc|subi|sbci|sbiw|dec|neg",
        b.MUL: "f?mul|f?mulsu?",
        b.SHIFT: "ls[lr]|asr|ro[lr]|swap|bst|bld",
        b.LOGIC: "andi?|ori?|eor|com|[cs]br",
        b.COMPARE: "cpc?|cpi|tst",
        b.BRANCH: r"br[a-z]{2,3}",
        b.SKIP: "cpse|sbrc|sbrs|sbic|sbis",
        b.JUMP: "r?jmp|e?ijmp",
        b.CALL: "r?call|e?icall",
        b.RETURN: "reti?",
        b.PUSH: "push",
        b.POP: "pop",
        b.TRAP: "break",
        b.NOTHING: "nop|wdr|sleep|cli|sei|se[tzcnvshi]|cl[tznvs]|sec|clc|bset|bclr",
    }
)
_CONDITION = {
    "eq": "eq", "ne": "ne", "lt": "lt", "ge": "ge", "lo": "ult", "cs": "ult", "sh": "uge",
    "cc": "uge", "mi": "mi", "pl": "pl",
}  # fmt: skip
_PLACE = re.compile(r"-?([XYZ])\+?(\d+)?")


def memory_of(operand: str) -> Memory | None:
    """Return the memory behind a pointer register such as ``Y+2``."""
    found = _PLACE.fullmatch(operand)
    return Memory(family_of(found[1])[0], offset=int(found[2] or 0)) if found else None


def _byte(text: str) -> int | None:
    """Return the value of ``lo8(1000)`` and the like, or of a plain number, as a byte."""
    found = re.fullmatch(r"(lo8|hi8|hlo8|hhi8)\((-?\w+)\)", text)
    value = b.number(found[2] if found else text)
    if value is None or not found:
        return value
    return value >> 8 * ("lo8", "hi8", "hlo8", "hhi8").index(found[1]) & 0xFF


@lru_cache(maxsize=65536)
def effect(mnemonic: str, operands: tuple[str, ...]) -> Effect:
    """Return what an instruction does."""
    kind = _KIND(mnemonic)
    last = operands[-1] if operands else ""
    if mnemonic == "rcall" and last == ".":
        return Effect(b.PUSH)  # makes room on the stack
    if kind in (b.BRANCH, b.JUMP, b.CALL, b.SKIP):
        indirect = mnemonic.endswith(("icall", "ijmp"))
        code = mnemonic[2:] if kind == b.BRANCH else ""
        target = "" if indirect or kind == b.SKIP else last
        return Effect(kind, condition=_CONDITION.get(code, code), target=target, indirect=indirect)
    if kind in ("load", "store"):
        memory = next((m for m in map(memory_of, operands) if m), None)
        if memory is None and mnemonic in ("lpm", "elpm"):
            memory = Memory("r30")
        if memory is None:
            symbol = last if kind == "load" else operands[0] if operands else ""
            memory = Memory(
                symbol=symbol,
                segment="io" if mnemonic[:1] in "iosc" and mnemonic[:3] != "sts" else "",
            )
        return Effect(b.MOVE, 8, memory=memory, loads=kind == "load", stores=kind == "store")
    immediate = {"clr": 0, "inc": 1, "dec": 1}.get(mnemonic, _byte(last))
    if mnemonic == "eor" and operands[0] == last:
        kind, immediate = b.CONSTANT, 0
    if kind == b.MOVE and last in ("__zero_reg__", "r1"):
        kind, immediate = b.CONSTANT, 0
    signed = {"asr": "signed", "lsr": "unsigned"}.get(mnemonic, "")
    return Effect(kind, 8, immediate=immediate, signed=signed)


_EXCHANGES = ("xch", "las", "lac", "lat")


@lru_cache(maxsize=65536)
def roles(mnemonic: str, operands: tuple[str, ...]) -> tuple[Role, ...]:
    """Return what happens to the registers of each operand."""
    kind = _KIND(mnemonic)
    out = [
        BOTH if ("+" in o and o[-1] == "+") or (o[:1] == "-" and o[1:] in "XYZ") else USE
        for o in operands
    ]
    if (
        not operands
        or kind
        in (
            b.BRANCH,
            b.JUMP,
            b.CALL,
            b.COMPARE,
            b.SKIP,
            b.PUSH,
            b.MUL,
            "store",
        )
        or mnemonic == "bst"
    ):
        return tuple(out)
    if mnemonic in _EXCHANGES:
        return (USE, BOTH)
    if kind in ("load", b.MOVE, b.CONSTANT, b.POP):
        out[0] = DEFINE
    else:
        out[0] = BOTH
    return tuple(out)


def hard_writes(mnemonic: str, operands: tuple[str, ...]) -> tuple[str, ...]:
    """Return the registers that an instruction writes without naming them."""
    return ("r0", "r1") if _KIND(mnemonic) == b.MUL else ()


def _writeback(operands: tuple[str, ...], done: Effect) -> tuple[int, int]:
    for operand in operands:
        if re.search(r"-[XYZ]$", operand):
            return -1, 0
        if re.search(r"[XYZ]\+$", operand):
            return 0, 1
    return 0, 0


SEMANTICS = Semantics(
    effect=effect,
    roles=roles,
    hard_writes=hard_writes,
    zero=frozenset(("r1",)),
    constant=constants(effect, ("__zero_reg__", "r1")),
    computed=computed,
    scale=no_scale,
    writeback=_writeback,
    access_bytes=plain_bytes,
    pairs=NEVER,
    carry=re.compile("adc|sbc"),
    flag_selects=NEVER,
    scaled=re.compile("lsl "),
    bit_tests=NEVER,
    narrow=True,
    atomic_names_tell=True,
)
