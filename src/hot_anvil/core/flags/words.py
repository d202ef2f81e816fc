"""The words of a command line, those that belong together as one.

``-C opt-level=3`` and ``-I include`` are one flag in two words.
"""

from collections.abc import Sequence

# Flags whose value may stand in a word of its own, by the style of the compiler. Those named second
# take it without a blank too, which keeps a flag one word.
_PAIRED = {
    "cc": ("-I", "-D", "-U", "-include", "-imacros", "-isystem", "-iquote", "-idirafter", "-Xclang",
           "-Xassembler", "-Xlinker", "-Xpreprocessor", "-mllvm", "--param", "-arch", "-target"),
    "rustc": ("-C", "-Z", "-L", "-A", "-W", "-D", "-F", "--cfg", "--codegen", "--edition",
              "--extern", "--target"),
    "nvcc": ("-I", "-D", "-U", "-arch", "-code", "-gencode", "-Xptxas", "-Xcompiler", "-include",
             "--maxrregcount"),
}  # fmt: skip
_JOINED = {
    "cc": ("-I", "-D", "-U"),
    "rustc": ("-C", "-Z", "-L", "-A", "-W", "-D", "-F"),
    "nvcc": ("-I", "-D", "-U"),
}
_WITH_EQUALS = ("--param", "--codegen", "--edition", "--cfg", "--extern", "--target", "-arch")

Flag = tuple[str, ...]  # its words


def parted(words: Sequence[str], style: str) -> tuple[Flag, ...]:
    """Return the flags of a command line, each with the words that belong to it.

    Where a compiler takes a value with and without a blank before it, it is written without one.
    """
    out: list[Flag] = []
    rest = list(words)
    while rest:
        word = rest.pop(0)
        if word not in _PAIRED.get(style, ()) or not rest:
            out.append((word,))
        elif word in _JOINED.get(style, ()):
            out.append((word + rest.pop(0),))
        elif word in _WITH_EQUALS and style != "nvcc":
            out.append((f"{word}={rest.pop(0)}",))
        else:
            out.append((word, rest.pop(0)))
    return tuple(out)


def level_of(flags: Sequence[Flag]) -> Flag | None:
    """Return the flag that says how much to optimise, the last one, None for none."""
    said = [flag for flag in flags if is_level(flag)]
    return said[-1] if said else None


def is_level(flag: Flag) -> bool:
    """Tell whether a flag says how much to optimise."""
    word = flag[0]
    if word.startswith("-Copt-level=") or word == "-O":
        return True
    return word.startswith("-O") and word[2:] in ("0", "1", "2", "3", "s", "z", "g", "fast", "4")
