"""What the assembler of the real machine reports of a kernel."""

import re
from typing import NamedTuple

_ENTRY = re.compile(r"Compiling entry function '([^']+)'")
_FRAME = re.compile(r"(\d+) bytes stack frame, (\d+) bytes spill stores, (\d+) bytes spill loads")
_USED = re.compile(r"Used (\d+) registers")
_SHARED = re.compile(r"(\d+) bytes smem")
_CONSTANT = re.compile(r"(\d+) bytes cmem\[\d+\]")


class Resources(NamedTuple):
    """What one kernel takes on the real machine, in bytes but for registers."""

    registers: int  # of a thread
    spill_stores: int
    spill_loads: int
    stack: int
    shared: int  # that it declares
    constant: int


def read_report(text: str) -> dict[str, Resources]:
    """Return what the assembler reports, by kernel; one whose report is not understood is left out.

    ``text`` is what ``ptxas -v`` says.
    """
    parts = _ENTRY.split(text)
    found: dict[str, Resources] = {}
    for name, body in zip(parts[1::2], parts[2::2], strict=True):
        used, frame = _USED.search(body), _FRAME.search(body)
        if used and frame:
            shared = _SHARED.search(body)
            found[name] = Resources(
                int(used[1]), int(frame[2]), int(frame[3]), int(frame[1]),
                int(shared[1]) if shared else 0,
                sum(int(size) for size in _CONSTANT.findall(body)),
            )  # fmt: skip
    return found
