"""The bench as a value; ``reading`` makes it from the tables of a file."""

from collections.abc import Collection, Mapping, Sequence
from types import MappingProxyType
from typing import Any, NamedTuple

from hot_anvil.core.facts.expectation import Expectation
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

LANGUAGES = {
    **dict.fromkeys((".c",), "c"),
    **dict.fromkeys((".cc", ".cpp", ".cxx", ".C"), "c++"),
    **dict.fromkeys((".f", ".for", ".f90", ".f95", ".f03", ".f08", ".F", ".F90"), "fortran"),
    **dict.fromkeys((".rs",), "rust"),
    **dict.fromkeys((".cu",), "cuda"),
    **dict.fromkeys((".s", ".S"), "assembly"),
}

Values = Mapping[str, Any]


class Tolerance(NamedTuple):
    """How far floats may be off; a value passes when one of these holds."""

    ulp: float = 0.0  # units in the last place of the larger of the two values
    relative: float = 0.0
    absolute: float = 0.0


class Case(NamedTuple):
    """An input set given value by value, and what must come of it."""

    inputs: Values  # in place of the snippet's
    expected: Values  # parameter, or "returns" -> number, numbers or a fill
    why: str


class ProgramRun(NamedTuple):
    """One run of a program: what goes in, and what must come out."""

    arguments: tuple[str, ...]
    stdin: Any  # a text, {"file": name}, or None
    needs: tuple[str, ...]  # files of the bench put into the folder it runs in
    writes: tuple[str, ...]  # files it writes there, to be compared
    expected: Values  # "stdout", "exit", "files"


class LaunchShape(NamedTuple):
    """How kernels are launched: numbers or expressions over the sweep and the inputs."""

    grid: tuple[str, ...]  # blocks, x first
    block: tuple[str, ...]  # threads
    shared: str = "0"  # bytes of shared memory beside what a kernel declares


class Snippet(NamedTuple):
    """One piece of code under study."""

    name: str
    about: str
    sources: tuple[str, ...]  # relative to the bench's folder
    entries: tuple[str, ...]  # rivals; empty: the only function that others can call
    reference: str  # entry whose results count as right, "" for the first
    sweep: Mapping[str, tuple[int, ...]]
    inputs: Values  # parameter -> value, expression, or table
    source_flags: Mapping[str, tuple[str, ...]] = MappingProxyType({})  # source -> more flags
    link_flags: tuple[str, ...] = ()
    packages: tuple[str, ...] = ()  # pkg-config names of libraries it needs
    toolchains: tuple[str, ...] = ()  # in place of the grid's, if any
    flags: tuple[str, ...] = ()  # flag sets in place of the grid's, if any
    # What a real project compiles a source with, before the build's own flags.
    project_flags: Mapping[str, tuple[str, ...]] = MappingProxyType({})
    project: str = ""  # the compile_commands.json to take them from
    expectations: tuple[Expectation, ...] = ()
    tolerance: Tolerance = Tolerance()
    not_promised: Mapping[str, str] = MappingProxyType({})  # kind of edge -> why it is left out
    accept: Mapping[str, str] = MappingProxyType({})  # failing verdict -> why it is accepted
    cases: tuple[Case, ...] = ()
    driver: str = ""  # source that makes the objects an entry takes, and calls it
    program: bool = False  # a whole program, run as it is
    runs: tuple[ProgramRun, ...] = ()
    per: str = ""  # expression: how many elements a call works on
    share: float | None = None  # of the whole program's time that the entry takes
    share_in: str = ""  # program in whose runs that share is measured
    threads: int = 0  # that call the entry at once, 0 for one that is not meant to
    launch: LaunchShape | None = None  # of kernels; None for what no device runs
    training: Values = MappingProxyType({})  # inputs that profiles are made with, else ``inputs``

    @property
    def languages(self) -> tuple[str, ...]:
        """The languages of its sources."""
        return tuple(dict.fromkeys(map(language_of, self.sources)))

    def sources_for(self, languages: Collection[str]) -> tuple[str, ...]:
        """Return the sources in these languages: those that a toolchain can compile."""
        return tuple(source for source in self.sources if language_of(source) in languages)


class CustomToolchain(NamedTuple):
    """A compiler that the bench or the person's settings name."""

    name: str
    command: str
    family: str
    target: str = ""  # where the compiler does not say it itself
    binutils: str | None = None  # prefix of assembler, linker and disassembler
    flags: tuple[str, ...] = ()  # fixed, in every build


class Grid(NamedTuple):
    """Which builds a bench asks for."""

    toolchains: tuple[str, ...]  # names or globs; empty: all that fit
    flags: tuple[str, ...]
    excepted: tuple[str, ...]
    reference: str  # "" for the first build
    baseline: str  # "" for the reference
    clock_hz: float = 0  # of chips whose flags do not say it; 0: not known


PROFILE = "profile"  # key of a flag set: compiled with what a run of the inputs showed


class Bench(NamedTuple):
    """A whole bench. ``explicit`` builds, if any, stand in place of the grid."""

    title: str
    root: str  # absolute folder that sources are relative to
    file: str  # where it was read from, for messages
    snippets: tuple[Snippet, ...]
    flags: Mapping[str, Any]  # flag set -> text, or table family -> text
    grid: Grid
    custom: tuple[CustomToolchain, ...]
    explicit: tuple[str, ...] = ()
    defaults: Values = MappingProxyType({})  # how commands behave where no option says it
    text: str = ""  # of the file, to name lines
    granted: tuple[str, ...] = ()  # files that the command line names, wherever they lie


class Settings(NamedTuple):
    """What a person keeps for all benches."""

    custom: tuple[CustomToolchain, ...]
    defaults: Values


class Input(NamedTuple):
    """What a bench says of one parameter, checked but not yet evaluated."""

    value: int | float | str | None  # scalar, or an expression over the sweep
    fill: str | None = None
    elements: int | str | None = None
    alias: str | None = None
    align: int | None = None  # bytes; aligned to this and to no more
    offset: int | str = 0  # elements into the other buffer, for an alias
    members: Values = MappingProxyType({})  # part of a struct -> number, expression or fill


def language_of(source: str) -> str:
    """Return the language a source's ending stands for."""
    ending = source[source.rfind(".") :] if "." in source else ""
    language = LANGUAGES.get(ending)
    if language is None:
        known = ", ".join(LANGUAGES)
        raise RequestError(f"{source}: no language is known for this ending (known: {known}).")
    return language


def find_snippets(bench: Bench, names: Sequence[str]) -> tuple[Snippet, ...]:
    """Return the snippets of these names, all when none is given."""
    if not names:
        return bench.snippets
    by_name = {snippet.name: snippet for snippet in bench.snippets}
    for name in names:
        if name not in by_name:
            hint = did_you_mean(name, by_name)
            raise RequestError(
                f"{bench.file}: no snippet is called '{name}'.{hint} "
                f"The bench has: {listed(by_name)}."
            )
    return tuple(by_name[name] for name in names)
