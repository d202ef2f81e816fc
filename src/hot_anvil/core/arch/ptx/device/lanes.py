"""The threads of the blocks that run at once, as lanes of arrays; registers by name.

A warp is 32 lanes side by side; blocks are padded to whole warps with lanes that are done from the
start. What is written to registers of lanes that are done does not matter.
"""

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from hot_anvil.core.arch.ptx.device.memory import Memory, Shared
from hot_anvil.core.arch.ptx.device.schedule import WARP
from hot_anvil.core.arch.ptx.module import Kernel, constant

Array = NDArray[Any]
Mask = NDArray[np.bool_]
Fetch = Callable[["Lanes"], Any]  # an array over all lanes, or one value for all
DTYPES: Mapping[str, Any] = {
    "pred": np.bool_, "b8": np.uint8, "b16": np.uint16, "b32": np.uint32, "b64": np.uint64,
    "u8": np.uint8, "u16": np.uint16, "u32": np.uint32, "u64": np.uint64, "s8": np.int8,
    "s16": np.int16, "s32": np.int32, "s64": np.int64, "f16": np.float16, "f32": np.float32,
    "f64": np.float64,
}  # fmt: skip
_UNSIGNED = {1: np.uint8, 2: np.uint16, 4: np.uint32, 8: np.uint64}
_SIGNED = {1: np.int8, 2: np.int16, 4: np.int32, 8: np.int64}
_AXES = "xyz"
_PAIR = re.compile(r"(%?[\w$]+)\|(%?[\w$]+)$")


class UnknownInstructionError(Exception):
    """An instruction, or a form of one, that the device does not know."""


class Lanes:
    """The state of some blocks of one launch."""

    def __init__(
        self,
        kernel: Kernel,
        shape: tuple[Sequence[int], Sequence[int]],
        blocks: Sequence[int],
        processors: Sequence[int],
        memory: Memory,
        addresses: Mapping[str, int],
    ) -> None:
        """Start ``blocks``, by number, each on one of ``processors``.

        ``shape`` is (grid, block), x first; ``addresses`` of variables within their spaces.
        """
        self.kernel, self.memory, self.addresses = kernel, memory, addresses
        self.grid, self.block = shape
        self.threads = int(np.prod(self.block))
        self.padded = -(-self.threads // WARP) * WARP  # lanes of a block
        self.blocks = np.asarray(blocks)
        self.count = self.padded * len(blocks)
        self.processors = np.repeat(np.asarray(processors, np.uint32), self.padded)
        self.block_of = np.repeat(np.arange(len(blocks)), self.padded)
        lane = np.arange(self.count, dtype=np.int64)
        self.thread = (lane % self.padded).astype(np.uint32)
        self.done = self.thread >= self.threads
        self.waiting = np.zeros(self.count, np.bool_)
        self.pc = np.zeros(self.count, np.int64)
        self.registers: dict[str, Array] = {}
        self._special: dict[str, Array] = {}
        self.free = True  # whether registers of all lanes may be written
        self.parameters: dict[str, bytes] = {}
        self.shared = Shared(memory, len(blocks), 0, self.padded, False)
        self.local = np.zeros(0, np.uint8)
        self.local_size = self.local_stride = 0  # bytes of a thread
        self.heard: Callable[..., None] | None = None  # told of what lanes touch
        self.shared_names: frozenset[str] = frozenset()  # variables of the module

    def register(self, name: str) -> Array:
        """Return a register of all lanes, zero at first."""
        found = self.registers.get(name)
        if found is None:
            kind = self.kernel.register_type(name)
            if kind not in DTYPES:
                raise UnknownInstructionError(f"{name} is no register")
            found = self.registers[name] = np.zeros(self.count, DTYPES[kind])
        return found

    def special(self, name: str) -> Array:
        """Return a special register of all lanes."""
        found = self._special.get(name)
        if found is None:
            found = self._special[name] = self._make_special(name)
        return found

    def _make_special(self, name: str) -> Array:
        plain, _, axis = name.lstrip("%").partition(".")
        at = _AXES.find(axis or "x")
        whole = np.full(self.count, 0, np.uint32)
        bx, by, _ = self.block
        gx, gy, _ = self.grid
        thread, block = self.thread, self.blocks[self.block_of].astype(np.uint32)
        parts = {
            "tid": (thread % bx, thread // bx % by, thread // (bx * by)),
            "ctaid": (block % gx, block // gx % gy, block // (gx * gy)),
            "ntid": tuple(whole + np.uint32(n) for n in self.block),
            "nctaid": tuple(whole + np.uint32(n) for n in self.grid),
        }
        if plain in parts:
            return np.asarray(parts[plain][at], np.uint32)
        masks = {"eq": 0, "lt": 1, "le": 2, "gt": 3, "ge": 4}
        simple = {
            "laneid": thread % WARP,
            "warpid": thread // WARP,
            "nwarpid": whole + np.uint32(self.padded // WARP),
            "smid": self.processors,
            "nsmid": whole + np.uint32(self.memory.processors),
        }
        if plain in simple:
            return np.asarray(simple[plain], np.uint32)
        if plain.startswith("lanemask_") and plain[9:] in masks:
            one = np.uint64(1) << (thread % WARP).astype(np.uint64)
            below = one - np.uint64(1)
            every = np.uint64(0xFFFFFFFF)
            found = (one, below, below | one, every ^ (below | one), every ^ below)
            return found[masks[plain[9:]]].astype(np.uint32)
        raise UnknownInstructionError(f"the simulated device has no {name}")

    def put(self, name: str, value: Any, mask: Mask) -> None:
        """Write a register of the lanes of a mask."""
        if name == "_":
            return
        register = self.register(name)
        made = fitted(value, register.dtype)
        if self.free:
            register[...] = made
        else:
            np.copyto(register, made, where=mask)


def split_pair(operand: str) -> tuple[str, str]:
    """Return the two registers of ``%r1|%p1``; the second is "" where there is but one."""
    pair = _PAIR.match(operand)
    return (pair[1], pair[2]) if pair else (operand, "")


def fitted(value: Any, wanted: Any) -> Any:
    """Return bits as another type: cut off, or made wider by their own sign."""
    made = np.asarray(value)
    if made.dtype == wanted:
        return made
    if wanted == np.bool_ or made.dtype == np.bool_:
        return made.astype(wanted)
    here, there = made.dtype.itemsize, np.dtype(wanted).itemsize
    if here == there:
        return made.view(wanted)
    if here > there:
        return made.view(_UNSIGNED[here]).astype(_UNSIGNED[there]).view(wanted)
    wider = _SIGNED[there] if made.dtype.kind == "i" else _UNSIGNED[there]
    plain = made if made.dtype.kind in "iu" else made.view(_UNSIGNED[here])
    return plain.astype(wider).view(wanted)


def fetch(operand: str, kind: str) -> Fetch:
    """Return what reads an operand as a type."""
    dtype = DTYPES[kind]
    if operand in _PLAIN_SPECIAL or (operand.startswith("%") and "." in operand):
        if operand.lstrip("%").partition(".")[0] not in _SPECIAL:
            raise UnknownInstructionError(f"the simulated device has no {operand}")
        return lambda lanes: fitted(lanes.special(operand), dtype)
    number = constant(operand, kind)
    if number is not None:
        bits = number & ((1 << 8 * np.dtype(dtype).itemsize) - 1)
        value = np.array(bits, _UNSIGNED[np.dtype(dtype).itemsize])
        made = value.astype(dtype) if kind == "pred" else value.view(dtype)
        return lambda lanes: made
    if operand[:1] == "-" and operand[1:2] in "%$_abcdefghijklmnopqrstuvwxyz":
        inner = fetch(operand[1:], kind)
        return lambda lanes: -inner(lanes)

    def read(lanes: Lanes) -> Any:
        address = lanes.addresses.get(operand)
        if address is not None:
            return fitted(np.array(address, np.uint64), dtype)
        return fitted(lanes.register(operand), dtype)

    return read


_SPECIAL = frozenset(
    ("tid ctaid ntid nctaid laneid warpid nwarpid smid nsmid lanemask_eq lanemask_lt lanemask_le "
     "lanemask_gt lanemask_ge").split()
)  # fmt: skip
_PLAIN_SPECIAL = frozenset(
    f"%{name}"
    for name in (
        "laneid warpid nwarpid smid nsmid gridid clock clock64 globaltimer lanemask_eq lanemask_lt "
        "lanemask_le lanemask_gt lanemask_ge"
    ).split()
)
