"""Instructions as what they do to lanes: each is understood once, and then only run."""

from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np

from hot_anvil.core.arch.ptx.device import arithmetic as m
from hot_anvil.core.arch.ptx.device import moving, together
from hot_anvil.core.arch.ptx.device.lanes import (
    DTYPES,
    Fetch,
    Lanes,
    Mask,
    UnknownInstructionError,
    fetch,
    split_pair,
)
from hot_anvil.core.arch.ptx.module import Kernel
from hot_anvil.core.code.records import Instruction

Run = Callable[[Lanes, Mask], None]
_TYPES = frozenset(DTYPES)


class Step(NamedTuple):
    """One instruction, understood."""

    kind: str  # "plain", "branch", "leave", "barrier", "trap"
    run: Run
    guard: Callable[[Lanes], Any] | None  # lanes that it is for, None: all
    target: int  # of a branch
    uniform: bool  # it says that all lanes of a warp go the same way


def decode(kernel: Kernel) -> list[Step]:
    """Return the instructions of a kernel; raises UnknownInstructionError with the line."""
    out = []
    for number, item in enumerate(kernel.instructions):
        try:
            out.append(_step(item, number, kernel))
        except (UnknownInstructionError, KeyError, ValueError, IndexError) as error:
            why = str(error) if isinstance(error, UnknownInstructionError) else "is not known"
            raise UnknownInstructionError(f"{item.text}: {why}") from None
    return out


def _nothing(lanes: Lanes, mask: Mask) -> None:
    return None


def _step(item: Instruction, number: int, kernel: Kernel) -> Step:
    guard_text, _, name = item.mnemonic.rpartition(" ")
    guard = _guard(guard_text) if guard_text else None
    parts = name.split(".")
    word = parts[0]
    if word == "bra":
        target = kernel.labels[item.operands[-1]]
        return Step("branch", _nothing, guard, target, "uni" in parts)
    if word in ("ret", "exit"):
        return Step("leave", _nothing, guard, 0, False)
    if word in ("bar", "barrier") and "warp" not in parts and "arrive" not in parts:
        return Step("barrier", _nothing, guard, 0, False)
    if word == "trap":
        return Step("trap", _nothing, guard, 0, False)
    return Step("plain", _plain(item, parts, number), guard, 0, False)


def _guard(text: str) -> Callable[[Lanes], Any]:
    name = text.lstrip("@!")
    if "!" in text:
        return lambda lanes: ~lanes.register(name)
    return lambda lanes: lanes.register(name)


def _plain(item: Instruction, parts: Sequence[str], number: int) -> Run:
    word, operands = parts[0], item.operands
    if word in ("membar", "fence", "nop", "pragma", "prefetch", "discard", "griddepcontrol"):
        return _nothing
    if word in ("bar", "barrier", "nanosleep"):
        return _nothing
    if word in ("ld", "ldu", "st"):
        return moving.access(parts, operands, number)
    if word in ("atom", "red"):
        return together.atomic(parts, operands, number)
    if word == "shfl":
        return together.shuffle(parts, operands)
    if word in ("vote", "activemask", "match"):
        return together.vote(parts, operands)
    if word in ("setp", "set"):
        return _comparison(parts, operands)
    if word in ("mov", "cvta", "isspacep"):
        return _move(parts, operands)
    if word == "cvt":
        return _conversion(parts, operands)
    return _computation(parts, operands)


def _kinds(parts: Sequence[str]) -> list[str]:
    return [part for part in parts if part in _TYPES]


def _set(operand: str, kind: str, value: Callable[..., Any], given: Sequence[Fetch]) -> Run:
    def run(lanes: Lanes, mask: Mask) -> None:
        made = np.asarray(value(*(one(lanes) for one in given)))
        dtype = DTYPES[kind]
        lanes.put(operand, made if made.dtype == dtype else made.astype(dtype, copy=False), mask)

    return run


def _computation(parts: Sequence[str], operands: Sequence[str]) -> Run:
    word, kinds = parts[0], _kinds(parts)
    kind = kinds[-1] if kinds else "b32"
    if (word in ("add", "sub", "mad") and "cc" in parts) or word in ("addc", "subc", "madc"):
        raise UnknownInstructionError("carries are not simulated")
    if word in ("and", "or", "xor", "not") and kind == "pred":
        names = {"and": np.logical_and, "or": np.logical_or, "xor": np.logical_xor,
                 "not": np.logical_not}  # fmt: skip
        given = [fetch(operand, "pred") for operand in operands[1:]]
        return _set(operands[0], "pred", names[word], given)
    if word in ("shl", "shr"):
        given = [fetch(operands[1], kind), fetch(operands[2], "u32")]
        return _set(operands[0], kind, lambda a, by: m.shift(word == "shl", kind, a, by), given)
    if word == "selp":
        given = [fetch(operands[1], kind), fetch(operands[2], kind), fetch(operands[3], "pred")]
        return _set(operands[0], kind, lambda a, b, p: np.where(p, a, b), given)
    if word == "slct":
        given = [fetch(operands[1], kinds[0]), fetch(operands[2], kinds[0]),
                 fetch(operands[3], kinds[1])]  # fmt: skip
        return _set(operands[0], kinds[0], lambda a, b, c: np.where(c >= 0, a, b), given)
    if word in ("bfe", "bfi"):
        return _fields(word, kind, operands)
    if word == "prmt":
        given = [fetch(operand, "b32") for operand in operands[1:]]
        return _set(operands[0], "b32", m.permute, given)
    if word == "shf":
        given = [fetch(operand, "b32") for operand in operands[1:]]
        left, clamps = "l" in parts, "clamp" in parts
        return _set(operands[0], "b32", lambda a, b, c: m.funnel(left, clamps, a, b, c), given)
    if word == "lop3":
        given = [fetch(operand, "b32") for operand in operands[1:4]]
        table = int(operands[4], 0)
        return _set(operands[0], "b32", lambda a, b, c: m.logic3(a, b, c, table), given)
    if word in ("popc", "clz"):
        return _set(operands[0], "u32", m.plain(word, parts, kind), [fetch(operands[1], kind)])
    made = m.plain(word, parts, kind)
    wide = {"s16": "s32", "u16": "u32", "s32": "s64", "u32": "u64"}[kind] if "wide" in parts else ""
    given = [fetch(operand, kind) for operand in operands[1:3]]
    given += [fetch(operand, wide or kind) for operand in operands[3:]]
    saturates = "sat" in parts and m.is_float(kind)
    if saturates:
        inner = made
        made = lambda *values: np.clip(  # noqa: E731
            np.nan_to_num(inner(*values), nan=0.0), DTYPES[kind](0), DTYPES[kind](1)
        )
    return _set(operands[0], wide or kind, made, given)


def _fields(word: str, kind: str, operands: Sequence[str]) -> Run:
    if word == "bfe":
        given = [fetch(operands[1], kind), *(fetch(o, "u32") for o in operands[2:])]
        return _set(operands[0], f"b{kind[1:]}", lambda a, p, n: m.field(kind, a, p, n), given)
    given = [fetch(operands[1], kind), fetch(operands[2], kind),
             *(fetch(o, "u32") for o in operands[3:])]  # fmt: skip
    return _set(operands[0], kind, lambda a, b, p, n: m.insert(kind, a, b, p, n), given)


def _comparison(parts: Sequence[str], operands: Sequence[str]) -> Run:
    kinds, condition = _kinds(parts), parts[1]
    kind = kinds[-1]
    joined = next((part for part in parts if part in ("and", "or", "xor")), "")
    first, second = split_pair(operands[0])
    a, b = fetch(operands[1], kind), fetch(operands[2], kind)
    text = operands[3] if joined else ""
    also = fetch(text.lstrip("!"), "pred") if joined else None
    whole = parts[0] == "set"

    def outcome(lanes: Lanes, holds: Any) -> Any:
        if also is None:
            return holds
        other = also(lanes)
        other = ~other if text.startswith("!") else other
        return {"and": holds & other, "or": holds | other, "xor": holds ^ other}[joined]

    def run(lanes: Lanes, mask: Mask) -> None:
        holds = m.compare(condition, a(lanes), b(lanes), m.is_float(kind))
        made = outcome(lanes, holds)
        if whole:
            to = DTYPES[kinds[0]]
            yes = to(1) if kinds[0] == "f32" else ~DTYPES["u32"](0)
            lanes.put(first, np.where(made, yes, to(0)).astype(to, copy=False), mask)
            return
        lanes.put(first, made, mask)
        if second:
            lanes.put(second, outcome(lanes, ~np.asarray(holds)), mask)

    return run


def _move(parts: Sequence[str], operands: Sequence[str]) -> Run:
    kinds = _kinds(parts)
    kind = kinds[-1]
    to, given = operands[0], operands[1]
    if parts[0] == "cvta":
        return moving.generic_address(parts, to, given)
    if parts[0] == "isspacep":
        raise UnknownInstructionError("spaces are not asked for here")
    if given.startswith("{"):
        names = [name.strip() for name in given.strip("{}").split(",")]
        part = f"b{m.bits(kind) // len(names)}"
        return _set(
            to, kind, lambda *values: _packed(values, kind), [fetch(n, part) for n in names]
        )
    if to.startswith("{"):
        names = [name.strip() for name in to.strip("{}").split(",")]
        width = m.bits(kind) // len(names)
        read = fetch(given, f"b{m.bits(kind)}")

        def unpack(lanes: Lanes, mask: Mask) -> None:
            value = np.asarray(read(lanes))
            for number, name in enumerate(names):
                part = value >> value.dtype.type(number * width)
                lanes.put(name, part.astype(DTYPES[f"b{width}"]), mask)

        return unpack
    return _set(to, kind, lambda value: value, [fetch(given, kind)])


def _packed(values: Sequence[Any], kind: str) -> Any:
    width = m.bits(kind) // len(values)
    whole = DTYPES[f"b{m.bits(kind)}"]
    made = np.zeros_like(np.asarray(values[0]).astype(whole))
    for number, value in enumerate(values):
        made = made | np.asarray(value).astype(whole) << whole(number * width)
    return made.view(DTYPES[kind])


def _conversion(parts: Sequence[str], operands: Sequence[str]) -> Run:
    to, kind = _kinds(parts)[-2:]
    return _set(
        operands[0], to, lambda value: m.convert(parts, to, kind, value), [fetch(operands[1], kind)]
    )
