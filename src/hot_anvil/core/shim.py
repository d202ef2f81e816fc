"""C text that calls the entries of a snippet: generated, compiled apart from it.

The calling loop is one function per entry, the same object for every build,
and reaches the entry through a pointer that is read again on every batch, so
that no optimiser can look through the call.
"""

from collections.abc import Sequence

from hot_anvil.core.signature import Signature, Type

_SIZES = {1: "8", 2: "16", 4: "32", 8: "64"}


def c_type(kind: Type) -> str:
    """Return a C type with the size and register class of ``kind``."""
    if kind.kind == "void":
        return "void"
    if kind.kind == "pointer":
        return "void *"
    if kind.kind == "bool":
        return "_Bool"
    if kind.kind == "float":
        return {4: "float", 8: "double"}[kind.size]
    return f"{'u' if kind.kind == 'uint' else ''}int{_SIZES[kind.size]}_t"


def shim_source(signatures: Sequence[Signature]) -> str:
    """Return the C source of the calling loops and the table of entries."""
    parts = ['#include "worker.h"', "#include <stdint.h>", "#include <string.h>", ""]
    for index, signature in enumerate(signatures):
        parts.append(_caller(index, signature))
    parts.append("const struct entry hot_anvil_entries[] = {")
    for index, signature in enumerate(signatures):
        returns = signature.returns
        kind = 2 if returns.kind == "pointer" else 1 if returns.kind != "void" else 0
        parts.append(f"    {{ (const void *)&target_{index}, call_{index}, {kind} }},")
    parts += ["};", f"const unsigned hot_anvil_entry_count = {len(signatures)};", ""]
    return "\n".join(parts)


def _caller(index: int, signature: Signature) -> str:
    types = [c_type(parameter.type) for parameter in signature.parameters]
    result = c_type(signature.returns)
    loads = [f"    {kind} a{i} = *({kind} *)args[{i}];" for i, kind in enumerate(types)]
    passed = ", ".join(f"a{i}" for i in range(len(types)))
    store = result != "void"
    # Declared as a char: the real type is the pointer it is called through.
    return "\n".join(
        [
            # Weak: a build may have no compiler for the rival's language.
            f'extern char target_{index} __asm__("{signature.symbol}") __attribute__((weak));',
            f"static void call_{index}(const void *volatile *fn, void **args, "
            "unsigned long calls, void *result)",
            "{",
            f"    {result} (*entry)({', '.join(types) or 'void'}) = ",
            f"        ({result} (*)({', '.join(types) or 'void'}))*fn;",
            *loads,
            *([f"    {result} r;", "    memset(&r, 0, sizeof r);"] if store else []),
            "    for (unsigned long i = 0; i < calls; i++)",
            f"        {'r = ' if store else ''}entry({passed});",
            *(["    memcpy(result, &r, sizeof r);"] if store else ["    (void)result;"]),
            *([] if types else ["    (void)args;"]),
            "}",
            "",
        ]
    )
