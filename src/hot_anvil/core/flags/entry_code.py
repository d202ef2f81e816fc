"""The code of an entry, by everything that can make it act or run otherwise.

Bytes tell what text does not (how an instruction is encoded, what is padded); text tells what bytes
leave to the linker (which function is called, what a constant holds). Both have to agree.
"""

import re
from collections.abc import Mapping, Sequence
from hashlib import blake2b

from hot_anvil.core.binary.elf import Body, function_bodies, object_contents, object_pointers
from hot_anvil.core.code.records import Function
from hot_anvil.core.model.entry_body import instructions_of

_NAME = re.compile(r"[A-Za-z_.$][\w.$]*")


class ObjectCode:
    """The functions and data of the objects of one build, read once."""

    def __init__(self, objects: Sequence[bytes]) -> None:
        self.bodies = {n: b for data in objects for n, b in function_bodies(data).items()}
        self.contents = {n: c for data in objects for n, c in object_contents(data).items()}
        self.pointers = {n: p for data in objects for n, p in object_pointers(data).items()}


def entry_digest(
    functions: Sequence[Function], symbol: str, objects: ObjectCode | None = None
) -> str:
    """Return a digest that is equal for equal code of an entry with all that it reaches.

    ``functions`` are the entry and what it reaches; without ``objects`` (there are none for the
    target) their texts alone decide.
    """
    state = blake2b("\n".join(instructions_of(functions, symbol)).encode(), digest_size=16)
    for function in functions:
        state.update(repr(_tables(function)).encode())
    if objects:
        for function in functions:
            state.update(_bytes_of(objects.bodies.get(function.name)))
        for name in _pointed_to(_named(functions, objects.contents), objects):
            state.update(name.encode() + objects.contents.get(name, b""))
            state.update(_bytes_of(objects.bodies.get(name)))
    return state.hexdigest()


def _bytes_of(body: Body | None) -> bytes:
    """Return a function's bytes but for those that a linker fills in."""
    if body is None:
        return b""
    return bytes(0 if at in body.open_bytes else byte for at, byte in enumerate(body.data))


def _pointed_to(names: Sequence[str], objects: ObjectCode) -> list[str]:
    """Return data by name with all that it points to: tables of functions, of texts, of tables."""
    order = list(dict.fromkeys(names))
    for name in order:  # grows while it is gone through
        order += [goal for goal in objects.pointers.get(name, ()) if goal not in order]
    return order


def _tables(function: Function) -> list[list[int]]:
    """Return where each jump table leads, as places in the function."""
    return [
        [function.labels.get(label, -1) for label in leads] for leads in function.tables.values()
    ]


def _named(functions: Sequence[Function], contents: Mapping[str, bytes]) -> list[str]:
    """Return the data that instructions name, each once, in order."""
    words = (
        word
        for function in functions
        for instruction in function.instructions
        for operand in instruction.operands
        for word in _NAME.findall(operand)
    )
    return [word for word in dict.fromkeys(words) if word in contents]
