"""The steps of a recorded call, told: records that the walk makes and all others read."""

from collections.abc import Mapping, Sequence
from typing import Literal, NamedTuple

from hot_anvil.core.binary.locations import FunctionLocals
from hot_anvil.core.binary.types import Type
from hot_anvil.core.binary.variables import Placed
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.trace.code_map import CodePlace
from hot_anvil.core.trace.tape import Step

Whose = Literal["variable", "buffer", "memory"]
VARIABLE: Whose = "variable"  # of the function that runs
BUFFER: Whose = "buffer"  # that the entry was given, or a variable that lasts
MEMORY: Whose = "memory"  # that has no name


class Setting(NamedTuple):
    """A number that an instruction set; to what it was where ``before`` is ``after``."""

    whose: Whose
    name: str  # "sum", "kept[3]", "state.height"; of memory without a name its address
    type: str
    before: str  # "" where it is not known
    after: str
    data: bytes  # as it is now
    frame: int  # number of the call that a variable belongs to, 0 for what lasts
    variable: str  # the name without its part
    kind: Type | None = None
    address: int = 0  # of a variable in memory, 0 of one that is not


class Going(NamedTuple):
    """How a step leaves where it was."""

    calls: str = ""  # the function that it calls, "" for none
    enters: str = ""  # the function under study that the next step is the first of
    comes_back: bool = False  # from what it calls, before the next step: it is not stepped through
    returns: bool = False


class Moment(NamedTuple):
    """One step, told."""

    step: Step
    place: CodePlace
    depth: int  # calls deep, 0 for the entry itself
    frame: int  # number of the call, from 1
    passes: tuple[int, ...]  # of each loop around it, the innermost last
    entered: tuple[int, ...]  # of each of these loops, how often it has been entered
    settings: tuple[Setting, ...]
    going: Going
    taken: bool | None  # of a conditional branch; None for others


class Given(NamedTuple):
    """A parameter of the entry that points to a buffer."""

    name: str
    element: Type
    data: bytes


class Known(NamedTuple):
    """What is known of a program beside its code."""

    locals: Mapping[str, FunctionLocals]  # by function; without those whose code differs
    lasting: Sequence[tuple[Placed, bytes]]  # variables that last, and what they hold at first
    given: Sequence[Given]
    entry: str  # its symbol
    bits: int  # of an address
    data_mask: int = -1  # of addresses of data, where debug info counts them from elsewhere


def buffers_of(inputs: InputSet, types: Mapping[str, Type]) -> tuple[Given, ...]:
    """Return the parameters of an input set that point to buffers, those aliases aside."""
    out = []
    for one in inputs.arguments:
        kind = types.get(one.name)
        if one.kind == "buffer" and kind and kind.to:
            out.append(Given(one.name, kind.to, one.data))
    return tuple(out)
