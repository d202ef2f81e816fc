"""The stack frame: how many bytes it takes, which registers are saved in it."""

import re

from hot_anvil.core.arch import isa_of
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.facts.records import Fact
from hot_anvil.core.model.function import Side

# Canonical instructions that move the stack pointer by a constant: -> bytes the frame grows.
_GROWS = {
    "x86": (r"sub[lq]? \$(\d+),%[er]sp", r"add[lq]? \$-(\d+),%[er]sp"),
    "aarch64": (r"sub sp,sp,#?(\d+)", r"st[rp] .*\[sp,#?-(\d+)\]!"),
    "arm": (r"sub(?:\.?w)? sp,(?:sp,)?#(\d+)", r"str \w+,\[sp,#-(\d+)\]!"),
    "riscv": (r"addi? sp,sp,-(\d+)",),
    "avr": (r"sbiw r28,(?:lo8\()?(\d+)\)?", r"subi r28,(?:lo8\()?(\d+)\)?"),
    "msp430": (r"sub #(\d+),(?:r1|sp)",),
}
_SHRINKS = {
    "x86": (r"add[lq]? \$(\d+),%[er]sp", r"sub[lq]? \$-(\d+),%[er]sp"),
    "aarch64": (r"add sp,sp,#?(\d+)", r"ld[rp] .*\[sp\],#?(\d+)"),
    "arm": (r"add(?:\.?w)? sp,(?:sp,)?#(\d+)", r"ldr \w+,\[sp\],#(\d+)"),
    "riscv": (r"addi? sp,sp,(\d+)",),
    "avr": (r"adiw r28,(\d+)",),
    "msp430": (r"add #(\d+),(?:r1|sp)",),
}
_VARIES = re.compile(r"sub[lq]? %\w+,%[er]sp|sub sp,sp,[xr]\d+|sub sp,sp,\w+$|add sp,sp,[a-z]\w*")
_ALIGNS = re.compile(r"and[lq]? \$-(\d+),%[er]sp")
_WORD = {"x86": 8, "arm": 4, "avr": 1, "msp430": 2}
MOVED = "a register moves the stack pointer by what the code does not say"
_LISTED = re.compile(r"\b([a-z]+)(\d+)(?:-\1(\d+))?|\b(?:lr|fp|ip|sl|sb|ra|pc)\b")
_HIGH = re.compile(r"sbci r29,(?:hi8\()?(\d+)\)?")


def frame_facts(side: Side) -> list[Fact]:
    """Return the frame's size and the registers saved in it."""
    body = side.body
    if body.isa == "ptx":
        return [Fact("frame", None, note="PTX has no stack pointer: the assembler places locals")]
    size, places, note = _size(side)
    value = None if MOVED in note else size
    below = _red_zone(side, size)
    if below and value is not None:
        value += below
        note = "; ".join(filter(None, (f"{below} of it below the stack pointer", note)))
    text = f"{size}+" if value is None else ""
    saved = _saved(side)
    names = tuple(dict.fromkeys(name for _, found in saved for name in found))
    slots = {
        (m.base, m.offset)
        for k in side.slots
        if (m := side.deeds[k].memory) and k not in side.saves
    }
    return [
        Fact("frame", value, tuple(places), text, note),
        Fact("saved", names, tuple(k for k, _ in saved)),
        Fact("slots", len(slots), tuple(sorted(side.slots))),
    ]


def _size(side: Side) -> tuple[int, list[int], str]:
    """Return the most bytes of stack in use at once, what takes them, and a note.

    What calls push (return addresses) is not counted.
    """
    body = side.body
    grows = [re.compile(pattern) for pattern in _GROWS[body.isa]]
    shrinks = [re.compile(pattern) for pattern in _SHRINKS[body.isa]]
    moves: dict[int, int] = {}
    notes = []
    named = "r28" if body.isa == "avr" else "r1" if body.isa == "msp430" else "sp"
    for k, text in enumerate(body.texts):
        if named not in text and k not in side.saves:
            continue
        if _VARIES.match(text):
            by = _constant_before(side, k)
            if by is None:
                notes.append(MOVED)
            else:
                moves[k] = by if text.startswith("sub") else -by
            continue
        if align := _ALIGNS.match(text):
            notes.append(f"and up to {int(align[1]) - 1} more to align it")
        by = _moves(side, k, text, grows, shrinks)
        if by:
            moves[k] = by
    deepest = _deepest(side, moves)
    return deepest, [k for k, by in moves.items() if by > 0], "; ".join(dict.fromkeys(notes))


def _moves(
    side: Side, k: int, text: str, grows: list[re.Pattern[str]], shrinks: list[re.Pattern[str]]
) -> int:
    """Return by how many bytes an instruction makes the frame larger."""
    body, kind = side.body, side.deeds[k].kind
    if kind in (b.PUSH, b.POP) and body.isa in _WORD and not text.startswith(("leave", "enter")):
        each = 4 if body.isa == "x86" and "%e" in text else _WORD[body.isa]
        if text.startswith("rcall"):
            return 2
        count = sum(1 + span for _, span in _listed(text)) if body.isa == "arm" else 1
        each = 8 if text.startswith(("vpush", "vpop")) and "{d" in text.replace(" ", "") else each
        return count * each * (1 if kind == b.PUSH else -1)
    for sign, patterns in ((1, grows), (-1, shrinks)):
        for pattern in patterns:
            found = pattern.match(text)
            if found:
                return sign * (int(found[1]) + _high_byte(side, k, text))
    return 0


def _constant_before(side: Side, k: int) -> int | None:
    """Return the constant that the last register an instruction names was just set to."""
    text = side.body.items[k].operands[-1 if side.body.isa != "x86" else 0]
    family = isa_of(side.body.isa).family(text)[0]
    for j in range(k - 1, side.body.bounds[side.body.block_of[k]] - 1, -1):
        if family in side.written(j):
            done = side.deeds[j]
            return done.immediate if done.kind == b.CONSTANT else None
    return None


def _red_zone(side: Side, size: int) -> int:
    """Return the bytes below the stack pointer that a leaf function uses on x86-64."""
    if side.body.isa != "x86" or side.calls:
        return 0
    lowest = 0
    saved = 8 if "bp" in side.body.frame_registers else 0
    frame = side.body.frame_registers
    for done in side.deeds:
        memory = done.memory
        if memory and memory.base in frame and (done.loads or done.stores) and not memory.segment:
            lowest = min(lowest, memory.offset - (saved if memory.base == "bp" else size))
    return max(-lowest - size, 0)


def _high_byte(side: Side, k: int, text: str) -> int:
    if not text.startswith("subi") or k + 1 >= len(side):
        return 0
    found = _HIGH.match(side.body.texts[k + 1])
    return 256 * int(found[1]) if found else 0


def _deepest(side: Side, moves: dict[int, int]) -> int:
    """Return the deepest the stack gets, over all blocks in the order they are reached."""
    body = side.body
    if not moves:
        return 0
    bounds = body.bounds
    depth = {0: 0}
    todo = [0]
    deepest = 0
    while todo:
        block = todo.pop()
        now = depth[block]
        for k in range(bounds[block], bounds[block + 1]):
            now += moves.get(k, 0)
            deepest = max(deepest, now)
        for goal in body.next_blocks[block]:
            if goal not in depth:
                depth[goal] = now
                todo.append(goal)
    return deepest


def _listed(text: str) -> list[tuple[str, int]]:
    """Return the registers that an instruction lists: (first, how many more follow it)."""
    inside = text.partition(" ")[2]
    return [
        (m[0].partition("-")[0], int(m[3]) - int(m[2]) if m[3] else 0)
        for m in _LISTED.finditer(inside)
    ]


def _saved(side: Side) -> list[tuple[int, list[str]]]:
    """Return the instructions that save registers, with the registers."""
    out = []
    meaning = side.body.meaning
    kept = meaning.stack
    for k in sorted(side.saves):
        done, text = side.deeds[k], side.body.texts[k]
        if done.kind != b.PUSH and not done.stores:
            continue
        if text.startswith(("rcall", "enter", "vpush {s")):
            continue
        names = []
        for operand in side.body.items[k].operands:
            if "[" in operand or "(" in operand:
                break
            for first, more in _names(operand, side.body.isa):
                names += _run(first, more)
        names = [n for n in names if isa_of(side.body.isa).family(n)[0] not in kept]
        if done.kind == b.PUSH and len(names) == 1:  # a mere push may just make room
            names = names if _is_kept(side, names[0]) else []
        if names:
            out.append((k, names))
    return out


def _is_kept(side: Side, name: str) -> bool:
    """Tell whether a pushed register is one that a function must keep, or is popped again."""
    family = isa_of(side.body.isa).family
    if family(name)[0] not in side.body.meaning.clobbered or name in ("lr", "ra", "r14"):
        return True
    return any(family(name)[0] in side.written(k) for k in side.of((b.POP,)))


def _names(operand: str, isa: str) -> list[tuple[str, int]]:
    if isa == "x86":
        return [(operand.lstrip("%"), 0)] if operand.startswith("%") else []
    if isa == "riscv":
        return [(operand, 0)]
    return _listed(f"x {operand}")


def _run(first: str, more: int) -> list[str]:
    found = re.fullmatch(r"([a-z]+)(\d+)", first)
    if not found:
        return [first]
    return [f"{found[1]}{int(found[2]) + k}" for k in range(more + 1)]
