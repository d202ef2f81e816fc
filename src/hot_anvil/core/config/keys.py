"""The one table of a bench's keys: what each takes and what it means.

Reading checks against it, and ``docs/bench-file.md`` lists it (a test compares the two).
"""

from collections.abc import Mapping
from typing import Literal, NamedTuple

Form = Literal["text", "texts", "table", "tables", "yes or no", "any"]


class Key(NamedTuple):
    """One key of a table."""

    name: str
    form: Form  # "any": checked where it is read
    says: str


def _keys(*rows: tuple[str, Form, str]) -> tuple[Key, ...]:
    return tuple(Key(*row) for row in rows)


_TOP = _keys(
    ("title", "text", "what the bench is about"),
    (
        "flags",
        "table",
        "flag sets: name to flags, or to flags per compiler family (other: all that are not "
        "named); with profile = true compiled with what a run of the inputs showed",
    ),
    ("grid", "table", "which builds there are"),
    ("toolchain", "table", "compilers of your own"),
    ("snippet", "tables", "the pieces of code under study"),
    ("defaults", "table", "what the command line may still override"),
)
KEYS: Mapping[str, tuple[Key, ...]] = {
    "": _TOP,
    "settings": tuple(key for key in _TOP if key.name in ("toolchain", "defaults")),
    "defaults": _keys(
        ("syntax", "text", 'how code is written that knows both: "att" or "intel"'),
        ("jobs", "any", "compilers at once"),
        ("job_seconds", "any", "seconds that a compiler may take"),
        ("job_memory", "any", "megabytes that a compiler may take"),
    ),
    "grid": _keys(
        ("toolchains", "texts", "names or globs; left out: every compiler that fits"),
        ("flags", "texts", "flag sets; left out: all"),
        ("except", "texts", "builds to leave out"),
        ("reference", "text", "the build whose results count as right"),
        ("baseline", "text", "the build that ratios are given against"),
        ("clock_hz", "any", "of chips, in hertz, where no -DF_CPU says it: cycles are time then"),
    ),
    "toolchain": _keys(
        ("command", "text", "path of the compiler, absolute or relative to the bench"),
        ("family", "text", "how to speak to it: gcc, clang, rustc or nvcc"),
        ("target", "text", "target triple, where it does not say it itself"),
        ("binutils", "text", "prefix of its assembler, linker and objdump"),
        ("flags", "text", "fixed flags, in every build"),
    ),
    "snippet": _keys(
        ("name", "text", "left out: the first source's name"),
        ("about", "text", "what it is"),
        ("sources", "texts", "its source files"),
        ("entries", "texts", "functions that are called: rivals; left out: the only one"),
        ("reference", "text", "the entry whose results count as right"),
        ("sweep", "table", "sizes to go through: name to whole numbers"),
        ("inputs", "table", "parameter to value"),
        ("training", "table", "parameter to value where a profile is made, in place of the inputs"),
        ("source_flags", "table", "more flags for one source"),
        ("link_flags", "text", "flags for linking"),
        ("packages", "texts", "libraries by their pkg-config names"),
        ("toolchains", "texts", "in place of the grid's"),
        ("flags", "texts", "flag sets in place of the grid's"),
        ("from", "text", "a compile_commands.json, or its folder"),
        ("expect", "tables", "facts that must hold"),
        ("tolerance", "table", "how far floats may be off"),
        ("not_promised", "table", "edges that a function need not take, and why"),
        ("accept", "table", "failing verdicts that are accepted, and why"),
        ("case", "tables", "input sets given value by value"),
        ("driver", "text", "source that makes the objects an entry takes"),
        ("program", "yes or no", "whether it is a whole program"),
        ("per", "text", "how many elements a call works on"),
        ("share", "any", "of a whole program's time that the entry takes"),
        ("threads", "any", "how many call the entry at once"),
        ("run", "tables", "runs of a program"),
        ("launch", "table", "how kernels are launched, on the simulated device"),
    ),
    "launch": _keys(
        ("grid", "any", "blocks: a number, an expression, or a list of up to three"),
        ("block", "any", "threads of a block, the same way"),
        ("shared", "any", "bytes of shared memory beside what the kernel declares"),
    ),
    "expect": _keys(
        ("entry", "text", "a function of the snippet"),
        ("builds", "texts", "flag sets, builds or globs; left out: every build"),
        ("loop", "any", 'a source line of the loop, "any" or "all"'),
        ("facts", "table", "fact to what it must be"),
        ("at", "text", 'the inputs of the sweep that counts are of, such as "n=64"; left out: all'),
        ("why", "text", "why it matters"),
    ),
    "input": _keys(
        ("fill", "text", "what a buffer holds"),
        ("count", "any", "how many elements it has"),
        ("alias", "text", "the buffer it points into"),
        ("align", "any", "bytes it is aligned to, and to no more"),
        ("offset", "any", "elements into the other buffer"),
        ("members", "table", "part of a struct to value"),
    ),
    "tolerance": _keys(
        ("ulp", "any", "units in the last place"),
        ("relative", "any", "share of the larger value"),
        ("absolute", "any", "in the value's own unit"),
    ),
    "case": _keys(
        ("inputs", "table", "parameter to value"),
        ("expected", "table", "parameter, or returns, to what must come of it"),
        ("why", "text", "what it is for"),
    ),
    "run": _keys(
        ("arguments", "texts", "of the command line"),
        ("stdin", "any", "standard input: a text, or { file = NAME }"),
        ("needs", "texts", "files of the bench that it reads"),
        ("writes", "texts", "files that it writes, to be compared"),
        ("expected", "table", "what must come out"),
    ),
    "expected": _keys(
        ("stdout", "any", "a text, or { file = NAME }"),
        ("exit", "any", "exit code"),
        ("files", "table", "file that it writes to a text, or { file = NAME }"),
    ),
}
