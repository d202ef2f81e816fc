"""C text that calls the entries of a snippet on a chip, where a simulator sets the values.

native/chip.c puts values one after the other into ``hot_anvil_values``, addresses as two bytes, and
the number of the entry into ``hot_anvil_entry``; it then lets main() run to ``hot_anvil_done``.
"""

from collections.abc import Sequence

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.binary.types import Type
from hot_anvil.core.calling.shim import c_type, called_as, declare_structs

_ADDRESS = 2  # bytes
_NOTHING, _VALUE, _POINTER = range(3)


def chip_shim(signatures: Sequence[Signature], there: Sequence[Signature | None]) -> str:
    """Return the C source of main() and of what calls each entry, as the chip has it ``there``."""
    structs: dict[Type, str] = {}
    parts = ["#include <stdint.h>", "void *memcpy(void *, const void *, __SIZE_TYPE__);", ""]
    for signature in signatures:
        for kind in (signature.returns, *(p.type for p in signature.parameters)):
            parts += declare_structs(kind, structs)
    room = max((sum(_bytes(p.type) for p in s.parameters) for s in signatures), default=0)
    most = max((_bytes(s.returns) for s in signatures), default=0)
    parts += [
        "volatile uint8_t hot_anvil_entry;",
        f"uint8_t hot_anvil_values[{max(room, 1)}];",
        f"uint8_t hot_anvil_result[{max(most, 1)}];",
    ]
    for index, signature in enumerate(signatures):
        parts += _caller(index, signature, structs, called_as(signature, there[index]))
    parts += [
        "__attribute__((noinline, used)) void hot_anvil_done(void)",
        '{ for (;;) __asm__ volatile(""); }',
        "int main(void)",
        "{",
        "    uint8_t entry = hot_anvil_entry;",
        *(f"    if (entry == {index}) call_{index}();" for index in range(len(signatures))),
        "    hot_anvil_done();",
        "    return 0;",
        "}",
        "",
    ]
    return "\n".join(parts)


def chip_entries(chip: str, signatures: Sequence[Signature]) -> str:
    """Return what the simulator's worker is told of a program: the head of native/chip.c."""
    lines = [chip]
    for signature in signatures:
        returns = signature.returns
        how = {"void": _NOTHING, "pointer": _POINTER}.get(returns.kind, _VALUE)
        lines.append(f"{signature.symbol} {how} {returns.size}")
    return "\n".join((*lines, ""))


def _bytes(kind: Type) -> int:
    return _ADDRESS if kind.kind == "pointer" else kind.size


def _caller(
    index: int, signature: Signature, structs: dict[Type, str], own: Signature
) -> list[str]:
    types = [c_type(parameter.type, structs) for parameter in signature.parameters]
    given, result = c_type(signature.returns, structs), c_type(own.returns, structs)
    listed = ", ".join(c_type(p.type, structs) for p in own.parameters) or "void"
    lines, at = [], 0
    for number, parameter in enumerate(signature.parameters):
        lines.append(f"    {types[number]} a{number};")
        lines.append(f"    memcpy(&a{number}, hot_anvil_values + {at}, sizeof a{number});")
        at += _bytes(parameter.type)
    call = f"target_{index}({', '.join(f'a{n}' for n in range(len(types)))});"
    if result != "void":
        call = f"{given} r = {call}\n    memcpy(hot_anvil_result, &r, sizeof r);"
    return [
        f'extern {result} target_{index}({listed}) __asm__("{signature.symbol}");',
        f"static __attribute__((noinline)) void call_{index}(void)",
        "{",
        *lines,
        f"    {call}",
        "}",
        "",
    ]
