"""C text that calls the entries of a snippet: generated, compiled apart from it.

The calling loop is one function per entry, the same object for every build,
and reaches the entry through a pointer that is read again on every batch, so
that no optimiser can look through the call.
"""

from collections.abc import Mapping, Sequence

from hot_anvil.core.binary.signatures import Parameter, Signature
from hot_anvil.core.binary.types import Type, both_whole

_BITS = {1: "8", 2: "16", 4: "32", 8: "64"}
_FLOATS = {2: "_Float16", 4: "float", 8: "double", 16: "long double"}
# A section of its own, so that what runs beside the entry can be told from it.
_SECTION = '__attribute__((section("hot_anvil_calls")))'
_ARGUMENTS = "const void *volatile *fn, void **args, unsigned long calls, void *result"
_EACH = (
    "const void *volatile *fn, void **args, unsigned long calls, unsigned long stride, void *result"
)


def c_type(kind: Type, structs: Mapping[Type, str]) -> str:
    """Return a C type with the size and register class of ``kind``."""
    if kind.kind == "void":
        return "void"
    if kind.kind == "struct":
        return structs[_bare(kind)]
    if kind.kind == "pointer":
        return "void *"
    if kind.kind == "bool":
        return "_Bool"
    if kind.kind == "complex":
        return f"{_FLOATS[kind.size // 2]} _Complex"
    if kind.kind == "float":
        return _FLOATS[kind.size]
    unsigned = kind.kind == "uint"
    if kind.size == 16:
        return f"{'unsigned ' if unsigned else ''}__int128"
    return f"{'u' if unsigned else ''}int{_BITS[kind.size]}_t"


def shim_source(
    signatures: Sequence[Signature],
    there: Sequence[Signature | None] = (),
    convention: str = "",
) -> str:
    """Return the C source of the calling loops and the table of entries.

    ``there``: the same functions as another machine has them, where values are converted;
    ``convention``: an attribute that says how they take values, "" for the usual way.
    """
    structs: dict[Type, str] = {}
    own = there or [None] * len(signatures)
    parts = ['#include "worker.h"', "#include <stdint.h>", "#include <string.h>", ""]
    for signature in signatures:
        for kind in (signature.returns, *(p.type for p in signature.parameters)):
            parts += declare_structs(kind, structs)
    for index, signature in enumerate(signatures):
        if signature.through:
            parts += _through_driver(index, signature, structs)
        else:
            taken = called_as(signature, own[index])
            parts += _caller(index, signature, structs, taken, convention)
    parts.append("const struct entry hot_anvil_entries[] = {")
    for index, signature in enumerate(signatures):
        returns = signature.returns
        how = 2 if returns.kind == "pointer" else 1 if returns.kind != "void" else 0
        hooks = ["NULL", "NULL", "NULL"]
        if signature.through:
            through = signature.through
            hooks[0] = f"prepare_{index}"
            hooks[1] = f"finish_{index}" if through.result else "NULL"
            hooks[2] = f"release_{index}" if through.release else "NULL"
        parts.append(
            f"    {{ (const void *)&target_{index}, call_{index}, {how}, {returns.size}, "
            f"{', '.join(hooks)}, each_{index} }},"
        )
    parts += ["};", f"const unsigned hot_anvil_entry_count = {len(signatures)};", ""]
    return "\n".join(parts)


def called_as(signature: Signature, there: Signature | None) -> Signature:
    """Return the types that a function is called with: its own whole numbers, else those given."""
    if not there:
        return signature
    pairs = zip(signature.parameters, there.parameters, strict=True)
    taken = (p._replace(type=_own(p.type, o.type)) for p, o in pairs)
    returns = _own(signature.returns, there.returns)
    return signature._replace(parameters=tuple(taken), returns=returns)


def _own(given: Type, there: Type) -> Type:
    return there if both_whole(given, there) else given


def _bare(kind: Type) -> Type:
    return kind._replace(const=False)


def declare_structs(kind: Type, structs: dict[Type, str]) -> list[str]:
    """Return C declarations of a struct and those inside it, if not yet there."""
    if kind.kind == "array" and kind.to:
        return declare_structs(kind.to, structs)
    if kind.kind != "struct" or _bare(kind) in structs:
        return []
    parts = [line for member in kind.members for line in declare_structs(member.type, structs)]
    structs[_bare(kind)] = f"struct s{len(structs)}"
    packed = not kind.lies_naturally
    lines, at = [], 0
    for number, member in enumerate(kind.members):
        if packed and member.offset > at:
            lines.append(f"    char pad{number}[{member.offset - at}];")
        lines.append(f"    {_member(member.type, f'm{number}', structs)};")
        at = member.offset + member.type.size
    if packed and kind.size > at:
        lines.append(f"    char pad[{kind.size - at}];")
    natural = max((member.type.align for member in kind.members), default=1)
    told = ["packed"] if packed else []
    told += [f"aligned({kind.align})"] if packed or kind.align > natural else []
    attribute = f" __attribute__(({', '.join(told)}))" if told else ""
    return [*parts, f"{structs[_bare(kind)]} {{", *lines, f"}}{attribute};", ""]


def _member(kind: Type, name: str, structs: Mapping[Type, str]) -> str:
    if kind.kind == "array" and kind.to:
        inner = kind.to
        return f"{c_type(inner, structs)} {name}[{kind.size // inner.size}]"
    return f"{c_type(kind, structs)} {name}"


def _caller(
    index: int,
    signature: Signature,
    structs: Mapping[Type, str],
    own: Signature,
    convention: str,
) -> list[str]:
    types = [c_type(parameter.type, structs) for parameter in signature.parameters]
    given, result = c_type(signature.returns, structs), c_type(own.returns, structs)
    store = result != "void"
    listed = ", ".join(c_type(p.type, structs) for p in own.parameters) or "void"
    entry = f"{result} ({convention}*entry)({listed}) = ({result} ({convention}*)({listed}))*fn;"
    copy = ["    memcpy(result, &r, sizeof r);" if store else "    (void)result;"]
    if given != result:
        copy = [f"    {given} told = r;", "    memcpy(result, &told, sizeof told);"]
    passed = ", ".join(f"a{i}" for i in range(len(types)))
    values = [f"*({kind} *)args[{i}]" for i, kind in enumerate(types)]
    return [
        # Declared as a char: the real type is the pointer it is called through.
        # Weak: a build may have no compiler for the rival's language.
        f'extern char target_{index} __asm__("{signature.symbol}") __attribute__((weak));',
        f"{_SECTION} static void call_{index}({_ARGUMENTS})",
        "{",
        f"    {entry}",
        *(f"    {kind} a{i} = *({kind} *)args[{i}];" for i, kind in enumerate(types)),
        *([f"    {result} r;", "    memset(&r, 0, sizeof r);"] if store else []),
        "    for (unsigned long i = 0; i < calls; i++)",
        f"        {'r = ' if store else ''}entry({passed});",
        *copy,
        *([] if types else ["    (void)args;"]),
        "}",
        f"{_SECTION} static void each_{index}({_EACH})",
        "{",
        f"    {entry}",
        *([f"    {result} r;", "    memset(&r, 0, sizeof r);"] if store else []),
        "    for (unsigned long i = 0; i < calls; i++, args += stride)",
        f"        {'r = ' if store else ''}entry({', '.join(values)});",
        *copy,
        "}",
        "",
    ]


def _through_driver(index: int, signature: Signature, structs: Mapping[Type, str]) -> list[str]:
    """Return what calls a driver's functions; the objects it made lie behind the last argument."""
    through = signature.through
    assert through
    places = {p.name: number for number, p in enumerate(signature.parameters)}
    made = f"*(void **)args[{len(signature.parameters)}]"

    def arguments(parameters: Sequence[Parameter]) -> list[str]:
        return [f"*({c_type(p.type, structs)} *)args[{places[p.name]}]" for p in parameters]

    def types(parameters: Sequence[Parameter]) -> list[str]:
        return [c_type(p.type, structs) for p in parameters]

    taken = through.prepare.parameters
    lines = [
        f'extern char target_{index} __asm__("{through.call}") __attribute__((weak));',
        f'extern void *make_{index}({", ".join(types(taken)) or "void"}) __asm__("'
        f'{through.prepare.symbol}");',
        f"static void prepare_{index}(void **args)",
        f"{{ {made} = make_{index}({', '.join(arguments(taken))}); }}",
        f"{_SECTION} static void call_{index}({_ARGUMENTS})",
        "{",
        "    void (*entry)(void *) = (void (*)(void *))*fn;",
        f"    void *made = {made};",
        "    for (unsigned long i = 0; i < calls; i++) entry(made);",
        "    (void)result;",
        "}",
        f"{_SECTION} static void each_{index}({_EACH})",
        "{",
        "    void (*entry)(void *) = (void (*)(void *))*fn;",
        f"    for (unsigned long i = 0; i < calls; i++, args += stride) entry({made});",
        "    (void)result;",
        "}",
    ]
    if through.result:
        more = through.result.parameters[1:]
        returned = c_type(signature.returns, structs)
        lines += [
            f'extern {returned} tell_{index}({", ".join(["void *", *types(more)])}) __asm__("'
            f'{through.result.symbol}");',
            f"static void finish_{index}(void **args, void *result)",
            "{",
            f"    {'' if returned == 'void' else f'{returned} r = '}"
            f"tell_{index}({', '.join([made, *arguments(more)])});",
            "    (void)result;" if returned == "void" else "    memcpy(result, &r, sizeof r);",
            "}",
        ]
    if through.release:
        lines += [
            f'extern void drop_{index}(void *) __asm__("{through.release}");',
            f"static void release_{index}(void **args) {{ drop_{index}({made}); }}",
        ]
    return [*lines, ""]
