"""What is compared: one side's code, with its sources and what its compiler said."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from hot_anvil.core.asm.listing import Sources
from hot_anvil.core.build.records import Built
from hot_anvil.core.code.records import Code

if TYPE_CHECKING:
    from hot_anvil.core.toolchain.remarks import DoneRemark


class Side(NamedTuple):
    """One side of a comparison."""

    name: str  # as the person calls it: "gcc:fast", "clamp_branch@gcc:fast", "before the edit"
    built: Built
    code: Code
    sources: Sources
    remarks: "tuple[DoneRemark, ...]" = ()


def lone_functions(left: Code, right: Code) -> dict[str, str]:
    """Return the one function of each side, if each has one and no name is on both."""
    names = [list(dict.fromkeys(f.owner for f in code.functions)) for code in (left, right)]
    if len(names[0]) == len(names[1]) == 1 and names[0] != names[1]:
        return {names[0][0]: names[1][0]}
    return {}


def only_file(sources: Sequence[str]) -> str:
    """Return the one source of a snippet, "" where it has several."""
    return sources[0] if len(sources) == 1 else ""
