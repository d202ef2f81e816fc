"""How compilers of each style are called: one function a style.

The styles are named by the data files of the families.
"""

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Literal, NamedTuple

Make = Literal["text", "object"]
TEXT: Make = "text"
OBJECT: Make = "object"  # what to make: assembly text, an object


class Call(NamedTuple):
    """What a compiler is called for."""

    path: str
    flags: tuple[str, ...]  # the build's own
    fixed: tuple[str, ...]  # ours: debug lines, form of the diagnostics, the target
    make: str  # TEXT or OBJECT
    output: str
    rule: str  # file to write what was read to, as a make rule; "" for none
    source: str
    language: str


def argv_of(call: Call, style: str) -> list[str]:
    """Return the command to run."""
    source = call.source if not call.source.startswith("-") else f"./{call.source}"
    return _STYLES[style](call._replace(source=source))


def _cc(call: Call) -> list[str]:
    rule = ["-MD", "-MF", call.rule, "-MT", "x"] if call.rule else []
    if call.language == "fortran":  # it tells what it read only when it preprocesses
        rule = ["-J", call.output.rpartition("/")[0] or "."]
    what = "-S" if call.make == TEXT else "-c"
    return [call.path, *call.flags, *call.fixed, what, "-o", call.output, call.source, *rule]


def _rustc(call: Call) -> list[str]:
    emits = [f"{'asm' if call.make == TEXT else 'obj'}={call.output}"]
    emits += [f"dep-info={call.rule}"] if call.rule else []
    own = [
        # Its intermediate files lie there: two builds at once must not share them.
        f"--out-dir={call.output.rpartition('/')[0] or '.'}",
        f"--crate-name={crate_name(call.source)}",
        "--crate-type=lib",
        "-Ccodegen-units=1",  # one text and one object
        *(f"--emit={emit}" for emit in emits),
    ]
    return [call.path, *call.flags, *call.fixed, *own, call.source]


def _nvcc(call: Call) -> list[str]:
    rule = ["-MD", "-MF", call.rule, "-MT", "x"] if call.rule else []
    what = "-ptx" if call.make == TEXT else "-cubin"
    return [call.path, *call.flags, *call.fixed, what, "-o", call.output, call.source, *rule]


def crate_name(source: str) -> str:
    """Return the crate name for a Rust source: fixed, since symbols may hang on it."""
    stem = source.rpartition("/")[2].removesuffix(".rs")
    return "s_" + re.sub(r"\W", "_", stem, flags=re.ASCII)


_STYLES: Mapping[str, Callable[[Call], list[str]]] = {"cc": _cc, "rustc": _rustc, "nvcc": _nvcc}

# Flags that say what to make or where, which is this tool's part: exact, and how they start.
OURS: Mapping[str, tuple[Sequence[str], tuple[str, ...]]] = {
    "cc": (
        (
            "-o",
            "-c",
            "-S",
            "-E",
            "-x",
            "-r",
            "-shared",
            "-###",
            "-fsyntax-only",
            "-v",
            "--version",
            "-emit-llvm",
            "-emit-ast",
            "--analyze",
        ),
        ("-save-temps", "-M", "-o"),
    ),
    "rustc": (
        ("-o", "-V", "--version", "--test"),
        ("--emit", "--out-dir", "-o", "--crate-type", "--crate-name", "--print", "--error-format"),
    ),
    "nvcc": (
        ("-o", "-c", "-ptx", "--ptx", "-cubin", "-E", "--version", "-link", "-dlink", "-run"),
        ("-o", "-M", "--output", "-keep", "--keep"),
    ),
}
