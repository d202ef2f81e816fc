"""Code that guards: stack guards, landing pads, checks, atomics, inline assembly."""

import re
from collections.abc import Iterator

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.helpers import ATOMIC_CALL, RETPOLINE
from hot_anvil.core.code.places import Place
from hot_anvil.core.diff.records import CERTAIN, LIKELY, Reason, lines_text
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.model.symbols import CHECKED_COPY, PANIC, SANITISER, STACK_GUARD
from hot_anvil.core.reasons.context import View

HARDENED, CHECKED, ATOMIC, INLINE = "hardening", "check dropped", "atomic access", "inline assembly"


def _calls(side: FunctionModel, pattern: re.Pattern[str]) -> list[int]:
    return [
        k for k, done in enumerate(side.effects) if done.target and pattern.fullmatch(done.target)
    ]


def _guard_values(side: FunctionModel) -> list[int]:
    return [
        k
        for k, done in enumerate(side.effects)
        if done.memory
        and ((done.memory.segment in ("%fs", "%gs") and done.memory.offset in (40, 20))
             or "__stack_chk_guard" in done.memory.symbol)
    ]  # fmt: skip


def has_stack_guard(side: FunctionModel) -> bool:
    """Tell whether a function checks a value beside its frame."""
    return bool(_calls(side, STACK_GUARD) or _guard_values(side))


def hardened(view: View) -> Iterator[Reason]:
    """Stack guards, landing pads, checked copies, sanitisers' checks that ``right`` has."""
    left, right = view.left, view.right
    found = _calls(right, STACK_GUARD) + _guard_values(right)
    if found and not has_stack_guard(left):
        texts = (
            "a stack guard: a value beside the frame is checked before the return",
            "no stack guard any more",
        )
        yield view.reason(HARDENED, texts, (), found)
    pads, others = right.of((b.LANDING,)), left.of((b.LANDING,))
    if pads and not others:
        texts = (
            "a landing pad or signed return address: where indirect branches may arrive is checked",
            "no landing pad or signed return address any more",
        )
        yield view.reason(HARDENED, texts, (), pads)
    for pattern, what in (
        (
            CHECKED_COPY,
            "the library function's checked form is called: it knows the buffer's size",
        ),
        (SANITISER, "checks at run time are called"),
        (RETPOLINE, "indirect branches go through a thunk that keeps speculation out"),
    ):
        calls = [
            k for k in _calls(right, pattern) if not STACK_GUARD.fullmatch(right.effects[k].target)
        ]
        if calls and not [
            k for k in _calls(left, pattern) if not STACK_GUARD.fullmatch(left.effects[k].target)
        ]:
            yield view.reason(HARDENED, (what, f"no longer: {what}"), (), calls)
    yield from _probed(view)


def _probed(view: View) -> Iterator[Reason]:
    """Stores into a growing stack frame that touch each page in order."""
    probe = view.right.body.arch.abi.frame.probe
    found = [k for k, text in enumerate(view.right.body.texts) if probe.match(text)]
    if found and not any(probe.match(text) for text in view.left.body.texts):
        texts = (
            "each page of the new stack frame is touched in order",
            "stack pages are not touched in order any more",
        )
        yield view.reason(HARDENED, texts, (), found)


def checks(view: View) -> Iterator[Reason]:
    """A bounds check, assertion or panic path of ``left`` that ``right`` has not."""
    left, right = view.left, view.right
    mine, theirs = _checked(left), _checked(right)
    ends = _ending_blocks(right)
    still = right.lines(k for k in range(len(right)) if right.body.block_of[k] in ends)
    if len(ending_paths(left)) <= len(ending_paths(right)) or view.divided_otherwise:
        return  # what is called instead may check
    gone = {
        place: found
        for place, found in mine.items()
        if place not in theirs and place not in still and not view.brought(place) and place.line > 0
    }
    if not gone:
        return
    rest = sum(place.line > 0 and not view.brought(place) for place in theirs)
    remaining = f", {rest} left" if rest else ""
    texts = (
        f"the checks of {lines_text(gone)}, which end the program when they fail, "
        f"are gone{remaining}",
        f"the checks of {lines_text(gone)} are made, which end the program when they fail",
    )
    evidence = [k for found in gone.values() for k in found]
    yield view.reason(CHECKED, texts, evidence, ending_paths(right), set(gone), LIKELY)


def _checked(side: FunctionModel) -> dict[Place, list[int]]:
    """Return source line -> its tests that lead to a path that ends the program, and that path."""
    body = side.body
    out: dict[Place, list[int]] = {}
    for k in ending_paths(side):
        out.setdefault(side.places[k], []).append(k)
    ends = _ending_blocks(side)
    for k in side.of((b.BRANCH, b.SKIP)):
        for goal in body.next_blocks[body.block_of[k]]:
            if goal in ends:
                out.setdefault(side.places[k], []).append(k)
    return out


def _ending_blocks(side: FunctionModel) -> set[int]:
    """Return the blocks that end the program, or lead only to one that does."""
    ends = {side.body.block_of[k] for k in ending_paths(side)}
    size = 0
    while len(ends) > size:
        size = len(ends)
        ends |= {
            block
            for block, goals in enumerate(side.body.next_blocks)
            if len(goals) == 1 and goals[0] in ends
        }
    return ends


def ending_paths(side: FunctionModel) -> list[int]:
    """Return the calls and traps that end the program when a check fails."""
    return sorted({*_calls(side, PANIC), *side.of((b.TRAP,))})


def atomics(view: View) -> Iterator[Reason]:
    """Atomic or ordered accesses that ``right`` has."""
    left, right = view.left, view.right
    kinds = (b.ATOMIC, b.FENCE)
    mine = sorted({*left.of(kinds), *_calls(left, ATOMIC_CALL)})
    theirs = sorted({*right.of(kinds), *_calls(right, ATOMIC_CALL)})
    if not mine and theirs:
        texts = (
            "memory is accessed atomically or in a fixed order that other threads see",
            "memory is accessed plainly: other threads may see parts, or another order",
        )
        yield view.reason(ATOMIC, texts, (), theirs)
    elif view.forward and mine and theirs:
        yield from _fences(view)
        names = [
            {side.body.items[k].mnemonic.split()[-1] for k in own}
            for side, own in ((left, mine), (right, theirs))
        ]
        calls = [bool(_calls(side, ATOMIC_CALL)) for side in (left, right)]
        if calls[0] != calls[1]:
            text = "atomic accesses are {} calls of the compiler's helper functions"
            text = text.format("through" if calls[1] else "no longer through")
            yield view.reason(ATOMIC, (text, ""), mine, theirs)
        elif not names[0] & names[1] and left.body.arch.semantics.atomic_names_tell:
            old, new = (", ".join(sorted(own)) for own in names)
            text = f"atomic accesses by {new} instead of {old}"
            yield view.reason(ATOMIC, (text, ""), mine, theirs)


def _fences(view: View) -> Iterator[Reason]:
    """Say when one side has fewer fences than the other."""
    mine, theirs = view.left.of((b.FENCE,)), view.right.of((b.FENCE,))
    if len(mine) != len(theirs):
        text = f"{len(theirs)} fences instead of {len(mine)}: what other threads see may change"
        yield view.reason(ATOMIC, (text, ""), mine, theirs)


def inline_assembly(view: View) -> Iterator[Reason]:
    """Inline assembly that ``right`` has more of on a line."""
    left, right = view.left, view.right
    for place, here in right.at.items():
        theirs = [k for k in here if right.body.items[k].inline_asm]
        mine = [k for k in left.at.get(place, ()) if left.body.items[k].inline_asm]
        if len(theirs) > len(mine):
            texts = ("the inline assembly is kept", "the inline assembly is dropped")
            if mine:
                texts = (
                    "there are more copies of the inline assembly",
                    "there are fewer copies of the inline assembly",
                )
            yield view.reason(INLINE, texts, mine, theirs, {place}, CERTAIN)


RULES = (hardened, checks, atomics, inline_assembly)
