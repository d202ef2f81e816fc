"""What kernels take, read from their declarations: no debug info of PTX says it."""

import re
from collections.abc import Iterator, Mapping

from hot_anvil.core.binary.signatures import Parameter, Signature
from hot_anvil.core.binary.types import VOID, Type

_KERNEL = re.compile(
    r"__global__\s+(?:__launch_bounds__\s*\([^)]*\)\s*)?void\s+(?:__launch_bounds__\s*\([^)]*\)\s*)?"
    r"(\w+)\s*\(([^)]*)\)"
)
_TYPEDEF = re.compile(r"\btypedef\s+([\w\s]+?)\s+(\w+)\s*;")
_COMMENT = re.compile(r"/\*.*?\*/|//[^\n]*", re.DOTALL)
_DROPPED = frozenset(("const", "volatile", "restrict", "__restrict__", "__restrict", "struct"))
_TYPES: Mapping[str, tuple[str, int]] = {
    "char": ("int", 1), "signed char": ("int", 1), "unsigned char": ("uint", 1),
    "bool": ("bool", 1),
    "short": ("int", 2), "unsigned short": ("uint", 2), "int": ("int", 4), "unsigned": ("uint", 4),
    "long": ("int", 8), "unsigned long": ("uint", 8), "long long": ("int", 8),
    "unsigned long long": ("uint", 8), "float": ("float", 4), "double": ("float", 8),
    "size_t": ("uint", 8),
    **{f"int{n}_t": ("int", n // 8) for n in (8, 16, 32, 64)},
    **{f"uint{n}_t": ("uint", n // 8) for n in (8, 16, 32, 64)},
}  # fmt: skip


def kernel_signatures(text: str, file: str) -> tuple[Signature, ...]:
    """Return the kernels that a source declares, one for each name.

    A parameter of a type that is not known here is of kind "other".
    """
    plain = _COMMENT.sub(lambda found: re.sub(r"[^\n]", " ", found[0]), text)
    named = {found[2]: _words(found[1]) for found in _TYPEDEF.finditer(plain)}
    out: dict[str, Signature] = {}
    for found in _KERNEL.finditer(plain):
        line = plain.count("\n", 0, found.start()) + 1
        parameters = tuple(_parameters(found[2], named))
        out[found[1]] = Signature(found[1], found[1], VOID, parameters, file, line)
    return tuple(out.values())


def _words(text: str) -> str:
    words = [word for word in text.split() if word not in _DROPPED]
    if len(words) > 1 and words[-1] == "int":  # "unsigned int", "long int"
        words = words[:-1]
    return " ".join(words)


def _parameters(listed: str, named: Mapping[str, str]) -> Iterator[Parameter]:
    for piece in listed.split(","):
        found = re.match(r"(.*?)(\w+)\s*(\[\d*\])?\s*$", piece.strip(), re.DOTALL)
        if not found or piece.strip() == "void":
            continue
        before = found[1]
        pointer = "*" in before or bool(found[3])
        kind = _type(_words(before.replace("*", " ")), named)._replace(const="const" in before)
        if pointer:
            name = f"{kind.name} *"
            kind = Type("pointer", 8, name, to=kind, align=8, restrict="restrict" in before)
        yield Parameter(found[2], kind)


def _type(words: str, named: Mapping[str, str]) -> Type:
    known = _TYPES.get(words) or _TYPES.get(named.get(words, ""))
    if known is None:
        return Type("other", 0, words)
    return Type(*known, words, align=known[1])
