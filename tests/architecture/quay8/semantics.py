"""What its instructions do."""

import re
from functools import lru_cache

from hot_anvil.core.arch.quay8.syntax import family_of

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.records import NEVER, Operands, Semantics
from hot_anvil.core.arch.semantics import DEFINE, USE, Effect, Memory, Role
from hot_anvil.core.arch.values import (
    computed,
    constants,
    no_scale,
    no_writeback,
    nothing_hard,
    plain_bytes,
)

_KIND = b.kind_table(
    {
        "load": "get", "store": "set", b.CONSTANT: "put", b.MOVE: "cpy", b.ADD: "sum", b.SUB: "cut",
        b.MUL: "tms", b.SHIFT: "shl|shr", b.BRANCH: "h(?:eq|ne|lt|ge)", b.JUMP: "hop",
        b.CALL: "run", b.RETURN: "back", b.PUSH: "stow", b.POP: "draw", b.NOTHING: "idle",
    }
)  # fmt: skip
_PLACE = re.compile(r"\[(r[0-7]|top)(?:\+(\d+))?\]")


@lru_cache(maxsize=4096)
def effect(mnemonic: str, operands: Operands) -> Effect:
    """Return what an instruction does."""
    kind = _KIND(mnemonic)
    last = operands[-1] if operands else ""
    if kind in (b.BRANCH, b.JUMP, b.CALL):
        return Effect(kind, condition=mnemonic[1:] if kind == b.BRANCH else "", target=last)
    if kind in ("load", "store"):
        found = next(m for o in operands if (m := _PLACE.fullmatch(o)))
        memory = Memory(family_of(found[1])[0], offset=int(found[2] or 0))
        return Effect(b.MOVE, 32, memory=memory, loads=kind == "load", stores=kind == "store")
    return Effect(kind, 32, immediate=b.number(last))


def roles(mnemonic: str, operands: Operands) -> tuple[Role, ...]:
    """Return what happens to the registers of each operand."""
    kind = _KIND(mnemonic)
    if not operands or kind in (b.BRANCH, b.JUMP, b.CALL, b.PUSH, "store"):
        return (USE,) * len(operands)
    return (DEFINE, *([USE] * (len(operands) - 1)))


SEMANTICS = Semantics(
    effect=effect,
    roles=roles,
    hard_writes=nothing_hard,
    zero=frozenset(),
    constant=constants(effect),
    computed=computed,
    scale=no_scale,
    writeback=no_writeback,
    access_bytes=plain_bytes,
    pairs=NEVER,
    carry=NEVER,
    flag_selects=NEVER,
    scaled=NEVER,
    bit_tests=NEVER,
    narrow=False,
    atomic_names_tell=True,
)
