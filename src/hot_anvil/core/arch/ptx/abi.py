"""Registers, frames and calls. Source: the PTX ISA."""

from hot_anvil.core.arch.frames import listed, no_push, steps
from hot_anvil.core.arch.records import NEVER, Abi, FrameRules


def _register_name(number: int, bits: int) -> str:
    return f"register {number}"


ABI = Abi(
    word=0,
    stack=frozenset(),
    frames=frozenset(),
    frame_setup=NEVER,
    clobbered=frozenset(),
    parameters=frozenset(),
    result="",
    results=frozenset(),
    wide_results=(),
    register_name=_register_name,
    frame=FrameRules(
        setup=NEVER,
        teardown=NEVER,
        pointer="",
        step=steps((), ()),
        pushed=no_push,
        varies=NEVER,
        aligns=NEVER,
        saved=listed,
        makes_room=NEVER,
        link=frozenset(),
        below=None,
        probe=NEVER,
    ),
)
