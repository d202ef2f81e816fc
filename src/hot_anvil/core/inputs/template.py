"""A first guess of values for an entry's parameters, to paste into a bench."""

from collections.abc import Sequence

from hot_anvil.core.binary.signatures import Parameter, Signature
from hot_anvil.core.binary.types import Leaf, Type, leaves
from hot_anvil.core.config.records import Bench, Snippet


def how_to_give(bench: Bench, snippet: Snippet, signature: Signature) -> str:
    """Return what to paste for missing values: a stanza, or options for a bare source."""
    text = template(snippet, [signature])
    if bench.file.endswith(".toml"):
        return f"Put this into the bench and mend the values:\n\n{text}"
    options = []
    option = "--inputs"
    for line in text.split("\n"):
        if line.startswith("["):
            option = "--sweep" if "sweep" in line else "--inputs"
        elif line:
            options.append(f"    {option} '{line}'")
    return "Give them as options and mend the values:\n\n" + " \\\n".join(options)


def template(snippet: Snippet, signatures: Sequence[Signature]) -> str:
    """Return TOML to paste: a first guess of values for every parameter without one."""
    parameters = {p.name: p for s in signatures for p in s.parameters}
    counts = [p.name for p in parameters.values() if _looks_like_count(p)]
    count = counts[0] if counts else ""
    lines = []
    if count and not snippet.sweep and count not in snippet.inputs:
        lines += ["[snippet.sweep]", f"{count} = [64, 4096]", ""]
    lines.append("[snippet.inputs]")
    for name, parameter in parameters.items():
        if name not in snippet.inputs:
            lines.append(f"{name} = {_value(parameter, name in counts, count)}")
    return "\n".join(lines)


def count_of(signature: Signature) -> str:
    """Return the parameter that looks like the number of elements, "" for none."""
    return next((p.name for p in signature.parameters if _looks_like_count(p)), "")


def _value(parameter: Parameter, is_count: bool, count: str) -> str:
    kind = parameter.type
    if kind.kind == "pointer" and kind.to:
        size = f'"{count}"' if count else "64"
        if parameter.writable:
            return f'{{ fill = "zeros", count = {size} }}'
        return f"{{ {_fill(kind.to)}, count = {size} }}"
    if kind.kind == "struct":
        return f"{{ {_fill(kind)} }}"
    if is_count:
        return f'"{parameter.name}"'
    return "1.0" if kind.kind == "float" else "1"


def _fill(kind: Type) -> str:
    if kind.kind != "struct":
        return f'fill = "{_first_fill(next(leaves(kind)))}"'
    members = [f'{_key(leaf.path)} = "{_first_fill(leaf)}"' for leaf in leaves(kind)]
    return f"members = {{ {', '.join(members)} }}"


def _key(path: str) -> str:
    return path if path.isidentifier() else f'"{path}"'


def _first_fill(leaf: Leaf) -> str:
    return "uniform(-1, 1)" if leaf.kind == "float" else "uniform(0, 100)"


def _looks_like_count(parameter: Parameter) -> bool:
    names = ("n", "len", "length", "count", "size", "num")
    return parameter.type.kind in ("int", "uint") and parameter.name in names
