"""A function's frame as it is shown: variables over instructions, and the layout of the stack."""

from collections.abc import Sequence
from typing import NamedTuple

from hot_anvil.core.binary.frames import STACK, Frame, Variable, Whereabouts


class BuildFrame(NamedTuple):
    """One function's frame under one build."""

    snippet: str
    build: str
    frame: Frame
    same_code: bool  # the code read is the build's own, byte for byte
    starts: tuple[int, ...]  # byte offset of each instruction from the function's start

    @property
    def instructions(self) -> int:
        """Number of instructions."""
        return len(self.starts)


class Region(NamedTuple):
    """A stretch of the frame."""

    offset: int  # of its lowest byte, from the frame's start
    size: int
    kind: str  # "variable", "saved" or "other"
    text: str


def stretches(one: BuildFrame, variable: Variable) -> list[tuple[Whereabouts, str]]:
    """Return the places of a variable, each with the instructions over which it holds."""
    merged: dict[tuple[str, str], list[Whereabouts]] = {}
    for where in variable.places:
        merged.setdefault((where.kind, where.text), []).append(where)
    return [(found[0], _over(one, found)) for found in merged.values()]


def _over(one: BuildFrame, places: Sequence[Whereabouts]) -> str:
    """Return the instructions that stretches of code cover, as text such as "0-4, 9"."""
    if any(w.low <= 0 and w.high >= one.frame.size for w in places):
        return "all"
    if not one.starts or not one.same_code:
        return ", ".join(f"bytes {w.low}-{w.high - 1}" for w in places)
    covered = sorted(
        {k for w in places for k, start in enumerate(one.starts) if w.low <= start < w.high}
    )
    runs: list[list[int]] = []
    for k in covered:
        if runs and runs[-1][1] == k - 1:
            runs[-1][1] = k
        else:
            runs.append([k, k])
    return ", ".join(str(a) if a == z else f"{a}-{z}" for a, z in runs) or "none"


def layout(frame: Frame) -> tuple[Region, ...]:
    """Return what the frame holds, from its start downwards, gaps included."""
    parts: dict[Region, list[Region]] = {}
    for saved in frame.saved:
        address = "address" in saved.register
        size = 2 if address and frame.word == 1 else frame.word  # AVR pushes two bytes of it
        text = saved.register if address else f"saved {saved.register}"
        parts[Region(saved.offset, size, "saved", text)] = []
    for variable in frame.variables:
        for where in variable.places:
            if where.kind != STACK or where.offset is None:
                continue
            name = f"{variable.name}  {variable.type}"
            members = [
                Region(where.offset + m.offset, m.size, "variable", f"  .{m.name}  {m.type}")
                for m in variable.members
            ]
            whole = Region(where.offset, variable.size, "variable", name)
            parts[whole] = sorted(members, key=lambda r: -r.offset)
    order = sorted(parts, key=lambda r: (-(r.offset + r.size), -r.size))
    out: list[Region] = []
    low: int | None = None
    for region in order:
        top = region.offset + region.size
        if low is not None and region.size and top < low:
            out.append(Region(top, low - top, "other", "(spilled values, or alignment)"))
        out += [region, *parts[region]]
        low = region.offset if low is None else min(low, region.offset)
    return tuple(out)
