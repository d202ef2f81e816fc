"""The code of an entry, by everything that can make it act or run otherwise.

Bytes tell what text does not (how an instruction is encoded, what is padded); text tells what bytes
leave to the linker (which function is called, what a constant holds). Both have to agree.
"""

import re
from collections.abc import Mapping, Sequence
from hashlib import blake2b

from hot_anvil.core.binary.elf import function_bodies, object_contents
from hot_anvil.core.code.records import Function
from hot_anvil.core.model.entry_body import instructions_of

_NAME = re.compile(r"[A-Za-z_.$][\w.$]*")


class ObjectCode:
    """The functions and data of the objects of one build, read once."""

    def __init__(self, objects: Sequence[bytes]) -> None:
        self.bodies = {n: b for data in objects for n, b in function_bodies(data).items()}
        self.contents = {n: c for data in objects for n, c in object_contents(data).items()}


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
            body = objects.bodies.get(function.name)
            if body:
                data = bytes(
                    0 if at in body.open_bytes else byte for at, byte in enumerate(body.data)
                )
                state.update(b"code" + data)
        for name in _named(functions, objects.contents):
            state.update(name.encode() + objects.contents[name])
    return state.hexdigest()


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
