"""The value of a variable in a state of the processor: its expression, worked out.

Source: the DWARF 5 standard, sections 2.5 and 2.6.
"""

from collections.abc import Callable, Sequence
from typing import NamedTuple

from hot_anvil.core.binary.locations import Op

_BINARY: dict[str, Callable[[int, int], int]] = {
    "plus": lambda a, b: a + b,
    "minus": lambda a, b: a - b,
    "mul": lambda a, b: a * b,
    "and": lambda a, b: a & b,
    "or": lambda a, b: a | b,
    "xor": lambda a, b: a ^ b,
    "shl": lambda a, b: a << b if b < 64 else 0,
    "shr": lambda a, b: a >> b if b < 64 else 0,
}
_CONSTANTS = ("const1u", "const2u", "const4u", "const8u", "constu", "const1s", "const2s",
              "const4s", "const8s", "consts")  # fmt: skip


class View(NamedTuple):
    """What an expression may ask for; each answers None where it is not known."""

    register: Callable[[str], int | None]
    base: Callable[[str], int | None]  # a register that holds an address, with those beside it
    memory: Callable[[int, int], bytes | None]  # (address, bytes)
    frame: Callable[[], int | None]  # the start of the frame
    frame_base: tuple[Op, ...]
    at_entry: Callable[[str], int | None]  # a register as it was when the function began
    address_bytes: int


class Where(NamedTuple):
    """Where one piece of a variable is."""

    how: str  # "memory", "register", "value" or "gone"
    address: int = 0
    register: str = ""
    value: int = 0
    size: int = 0  # bytes of the piece, 0 for all that there is


class UnknownError(Exception):
    """An expression that this state does not answer."""


def locate(ops: Sequence[Op], view: View) -> tuple[Where, ...]:
    """Return where the pieces of a variable are, the lowest first; () where that is not known."""
    out: list[Where] = []
    begin = 0
    try:
        for number, op in enumerate(ops):
            if op.name == "piece":
                piece = ops[begin:number]
                where = _one(piece, view) if piece else Where("gone")
                out.append(where._replace(size=op.numbers[0]))
                begin = number + 1
        if begin < len(ops) or not ops:
            out.append(_one(ops[begin:], view))
    except UnknownError:
        return ()
    return tuple(out)


def contents(pieces: Sequence[Where], size: int, view: View) -> bytes | None:
    """Return the bytes of a variable of ``size`` bytes, None where one of them is not known."""
    data = b""
    for piece in pieces:
        want = piece.size or size - len(data)
        part: bytes | None = None
        if piece.how == "memory":
            part = view.memory(piece.address, want)
        elif piece.how == "register":
            value = view.register(piece.register)
            part = None if value is None else _low(value, want)
        elif piece.how == "value":
            part = _low(piece.value, want)
        if part is None:
            return None
        data += part
    return data[:size] if len(data) >= size else None


def _low(value: int, size: int) -> bytes:
    return (value & ((1 << 8 * size) - 1)).to_bytes(size, "little")


def _one(ops: Sequence[Op], view: View) -> Where:
    if len(ops) == 1 and ops[0].name == "reg":
        return Where("register", register=ops[0].register)
    if ops and ops[0].name == "implicit_value":
        return Where("value", value=int.from_bytes(bytes(ops[0].numbers), "little"))
    is_value = bool(ops) and ops[-1].name == "stack_value"
    stack = _run(ops[:-1] if is_value else ops, view)
    if not stack:
        raise UnknownError
    if is_value:
        return Where("value", value=stack[-1])
    return Where("memory", address=stack[-1] & _mask(view))


def _mask(view: View) -> int:
    return (1 << 8 * view.address_bytes) - 1


def _run(ops: Sequence[Op], view: View) -> list[int]:
    stack: list[int] = []
    for op in ops:
        _step(op, stack, view)
    return stack


def _known(value: int | None) -> int:
    if value is None:
        raise UnknownError
    return value


def _pop(stack: list[int]) -> int:
    if not stack:
        raise UnknownError
    return stack.pop()


def _step(op: Op, stack: list[int], view: View) -> None:
    name, mask = op.name, _mask(view)
    if name in _CONSTANTS:
        stack.append(op.numbers[0])
    elif name == "breg":
        stack.append(_known(view.base(op.register)) + op.numbers[0])
    elif name == "fbreg":
        stack.append(_base(view) + op.numbers[0])
    elif name == "call_frame_cfa":
        stack.append(_known(view.frame()))
    elif name == "plus_uconst":
        stack.append(_pop(stack) + op.numbers[0])
    elif name in _BINARY:
        b, a = _pop(stack) & mask, _pop(stack) & mask
        stack.append(_BINARY[name](a, b) & mask)
    elif name == "shra":
        b, a = _pop(stack) & mask, _pop(stack) & mask
        a -= (mask + 1) if a > mask // 2 else 0
        stack.append((a >> min(b, 63)) & mask)
    elif name in ("neg", "not"):
        a = _pop(stack)
        stack.append((-a if name == "neg" else ~a) & mask)
    elif name in ("deref", "deref_size"):
        size = op.numbers[0] if op.numbers else view.address_bytes
        data = view.memory(_pop(stack) & mask, size)
        if data is None:
            raise UnknownError
        stack.append(int.from_bytes(data, "little"))
    elif name == "dup":
        stack.append(_known(stack[-1] if stack else None))
    elif name == "drop":
        _pop(stack)
    elif name == "entry_value" and len(op.inner) == 1 and op.inner[0].name in ("reg", "breg"):
        inner = op.inner[0]
        stack.append(_known(view.at_entry(inner.register)) + sum(inner.numbers))
    elif name != "nop":
        raise UnknownError


def _base(view: View) -> int:
    ops = view.frame_base
    if len(ops) == 1 and ops[0].name == "reg":  # the base is what the register holds
        return _known(view.base(ops[0].register))
    stack = _run(ops, view) if ops else []
    return _pop(stack)
