"""Registers, frames and calls: parameters in r1 to r4, the result in r1."""

import re

from hot_anvil.core.arch.frames import listed, steps
from hot_anvil.core.arch.records import NEVER, Abi, FrameRules

ABI = Abi(
    word=4,
    stack=frozenset(("r7",)),
    frames=frozenset(),
    frame_setup=NEVER,
    clobbered=frozenset(("r1", "r2", "r3", "r4")),
    parameters=frozenset(("r1", "r2", "r3", "r4")),
    result="r1",
    results=frozenset(("r1",)),
    wide_results=(),
    register_name=lambda number, bits: "top" if number == 7 else f"r{number}",
    frame=FrameRules(
        setup=re.compile(r"cut top,top,#|stow "),
        teardown=re.compile(r"sum top,top,#|draw |back$"),
        pointer="top",
        step=steps((r"cut top,top,#(\d+)",), (r"sum top,top,#(\d+)",)),
        pushed=lambda text: 4,
        varies=NEVER,
        aligns=NEVER,
        saved=listed,
        makes_room=NEVER,
        link=frozenset(),
        below=None,
        probe=NEVER,
    ),
)
