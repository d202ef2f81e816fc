"""The stack frame: how many bytes it takes, which registers are saved in it."""

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.facts.records import Fact
from hot_anvil.core.model.function import FunctionModel

MOVED = "a register moves the stack pointer by what the code does not say"


def frame_facts(side: FunctionModel) -> list[Fact]:
    """Return the frame's size and the registers saved in it."""
    body = side.body
    if not body.arch.abi.stack:
        title = body.arch.title
        return [
            Fact("frame", None, note=f"{title} has no stack pointer: the assembler places locals")
        ]
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
        if (m := side.effects[k].memory) and k not in side.saves
    }
    return [
        Fact("frame", value, tuple(places), text, note),
        Fact("saved", names, tuple(k for k, _ in saved)),
        Fact("slots", len(slots), tuple(sorted(side.slots))),
    ]


def _size(side: FunctionModel) -> tuple[int, list[int], str]:
    """Return the most bytes of stack in use at once, what takes them, and a note.

    What calls push (return addresses) is not counted.
    """
    body, frame = side.body, side.body.arch.abi.frame
    moves: dict[int, int] = {}
    notes = []
    for k, text in enumerate(body.texts):
        if frame.pointer not in text and k not in side.saves:
            continue
        if frame.varies.match(text):
            by = _constant_before(side, k)
            if by is None:
                notes.append(MOVED)
            else:
                moves[k] = by if side.effects[k].kind == b.SUB else -by
            continue
        if align := frame.aligns.match(text):
            notes.append(f"and up to {int(align[1]) - 1} more to align it")
        by = _moves(side, k)
        if by:
            moves[k] = by
    deepest = _deepest(side, moves)
    return deepest, [k for k, by in moves.items() if by > 0], "; ".join(dict.fromkeys(notes))


def _moves(side: FunctionModel, k: int) -> int:
    """Return by how many bytes an instruction makes the frame larger."""
    frame, texts, kind = side.body.arch.abi.frame, side.body.texts, side.effects[k].kind
    if kind in (b.PUSH, b.POP):
        pushed = frame.pushed(texts[k])
        if pushed is not None:
            return pushed if kind == b.PUSH else -pushed
    return frame.step(texts[k], texts[k + 1] if k + 1 < len(texts) else "")


def _constant_before(side: FunctionModel, k: int) -> int | None:
    """Return the constant that the last register an instruction names was just set to."""
    syntax = side.body.arch.syntax
    text = side.body.items[k].operands[0 if syntax.destination_last else -1]
    family = syntax.family(text)[0]
    for j in range(k - 1, side.body.bounds[side.body.block_of[k]] - 1, -1):
        if family in side.written(j):
            done = side.effects[j]
            return done.immediate if done.kind == b.CONSTANT else None
    return None


def _red_zone(side: FunctionModel, size: int) -> int:
    """Return the bytes below the stack pointer that a leaf function uses, where it may."""
    below = side.body.arch.abi.frame.below
    if below is None or side.calls:
        return 0
    pointer, pushed = below
    lowest = 0
    frame = side.body.frame_registers
    saved = pushed if pointer in frame else 0
    for done in side.effects:
        memory = done.memory
        if memory and memory.base in frame and (done.loads or done.stores) and not memory.segment:
            lowest = min(lowest, memory.offset - (saved if memory.base == pointer else size))
    return max(-lowest - size, 0)


def _deepest(side: FunctionModel, moves: dict[int, int]) -> int:
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


def _saved(side: FunctionModel) -> list[tuple[int, list[str]]]:
    """Return the instructions that save registers, with the registers."""
    out = []
    abi, family = side.body.arch.abi, side.body.arch.syntax.family
    for k in sorted(side.saves):
        done, text = side.effects[k], side.body.texts[k]
        if done.kind != b.PUSH and not done.stores:
            continue
        if abi.frame.makes_room.match(text):
            continue
        names: list[str] = []
        for operand in side.body.items[k].operands:
            if "[" in operand or "(" in operand:
                break
            names += abi.frame.saved(operand)
        names = [n for n in names if family(n)[0] not in abi.stack]
        if done.kind == b.PUSH and len(names) == 1:  # a mere push may just make room
            names = names if _is_kept(side, names[0]) else []
        if names:
            out.append((k, names))
    return out


def _is_kept(side: FunctionModel, name: str) -> bool:
    """Tell whether a pushed register is one that a function must keep, or is popped again."""
    abi, family = side.body.arch.abi, side.body.arch.syntax.family
    if family(name)[0] not in abi.clobbered or name in abi.frame.link:
        return True
    return any(family(name)[0] in side.written(k) for k in side.of((b.POP,)))
