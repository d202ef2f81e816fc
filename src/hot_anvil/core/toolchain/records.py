"""Toolchains as values: what a family is, and reading a compiler's own words."""

import re
from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from hot_anvil.core.arch import has_objects, isa_name
from hot_anvil.errors import RequestError


class Target(NamedTuple):
    """A target that compilers of a family serve beside their own, as ``clang-16@NAME``."""

    name: str
    triple: str
    needs: str  # the back end, as the compiler lists it
    binutils: str | None  # prefix of the assembler, linker, disassembler; None: there are none
    flags: tuple[str, ...]
    languages: Mapping[str, str]  # language -> language of the command that takes it
    language_flags: Mapping[str, tuple[str, ...]]


class Cure(NamedTuple):
    """Flags under which wrong code may come out right, and what that shows."""

    flags: tuple[str, ...]
    means: str
    isas: tuple[str, ...] = ()  # where what they change is no optimiser's doing; () for nowhere


class Front(NamedTuple):
    """How a command that stands for one of several compilers is told which."""

    variables: tuple[str, ...]  # of the environment
    files: tuple[str, ...]  # settings, ``~`` for the person's home
    beside: tuple[str, ...]  # in the folder it is started in, or one above
    asks: tuple[str, ...]  # what makes it print the folder of the compiler it stands for
    real: str  # the compiler in that folder


class Records(NamedTuple):
    """How compilers of a family are asked for their optimisation records."""

    flags: tuple[str, ...]  # into "{file}", or a file of the compiler's naming, or its messages
    form: str  # a reader of core/remarks
    since: int  # major version that knows the flags
    stages: str = ""  # how its forms of code are had, a module of system/asking; "" for not at all


class FlagsTold(NamedTuple):
    """How compilers of a family say what flags stand for."""

    form: str  # a reader of core/flags
    asks: tuple[tuple[str, ...], ...]  # what is asked, behind the flags in question
    macros: tuple[str, ...] = ()  # what prints the macros that are set, () where there are none
    level: Mapping[str, str] = {}  # instruction set -> flag for a "{level}" of its processors


class Profiling(NamedTuple):
    """How code is compiled with what its runs showed: counted in one build, used in the next."""

    form: str  # what is linked, and what becomes of the counts: native/profile.c, system/build
    make: tuple[str, ...]  # flags that let it count; "{unit}" for the source
    use: tuple[str, ...]  # flags that use the counts in the folder "{data}"
    merge: str = ""  # program that makes counts usable, "" for none


class FlagExperiment(NamedTuple):
    """Flags that may make code faster, and what that rests on; see core/experiments."""

    flags: tuple[str, ...]
    why: str
    promise: str = ""
    when: tuple[str, ...] = ()  # what an entry must have, of core/experiments/subject's traits
    breaks: tuple[str, ...] = ()
    loosens: bool = False
    isas: tuple[str, ...] = ()  # () for all
    several: bool = False  # only for snippets of several sources


class Family(NamedTuple):
    """What all compilers of one family share; read from a data file."""

    name: str
    style: str  # how it is called, see core/invocation.py
    commands: Mapping[str, str]  # command name -> language
    also: Mapping[str, str]  # language -> language of the command that takes it too
    prefixed: bool  # commands may start with a target: avr-gcc
    asks: tuple[str, ...]
    version_pattern: str
    target_pattern: str
    target: str  # for a family that does not name it
    name_parts: int  # how many numbers of the version make the name
    debug_flags: tuple[str, ...]
    variable_flags: tuple[str, ...]
    renames_folder: str  # how debug info calls a folder otherwise, before "FROM=TO"; "" for not
    interface_flags: tuple[str, ...]
    diagnostics_flags: tuple[str, ...]
    diagnostics_since: int  # major version that knows diagnostics_flags
    remark_flags: tuple[str, ...]  # ask what it optimised: into "{file}", or among its complaints
    remarks_since: int  # major version that knows remark_flags
    records: Records | None  # None: it writes none
    flags_told: FlagsTold | None  # None: it does not tell
    diagnostics: Mapping[str, str]  # language -> form, see core/messages.py
    sanitizer_flags: tuple[str, ...]  # find undefined behaviour while it runs
    trap_flags: tuple[str, ...]  # the same, stopping without a word: needs no library
    race_flags: tuple[str, ...]  # find data races while it runs
    unset_flags: tuple[str, ...]  # find values that are used and were never set
    reach_flags: tuple[str, ...]  # note which basic blocks are reached
    warning_flags: tuple[str, ...]  # find what is suspicious in the source
    front: Front | None
    cures: tuple[Cure, ...]  # each gives code one meaning more that it may rely on
    experiments: tuple[FlagExperiment, ...]
    profiling: Profiling | None  # None: it has no such thing, or it is not known here
    helpers: tuple[str, ...]
    text_is_object: bool
    install: str
    installs: Mapping[str, str]  # language -> how to get it
    per_isa: Mapping[str, Mapping[str, Any]]  # instruction set -> flags that differ
    targets: Mapping[str, Target]
    cross: Mapping[str, str]  # target -> how to get a compiler for it

    def level_flag(self, isa: str, level: str) -> str:
        """Return the flag that asks for processors of a level, "" where none is known."""
        template = self.flags_told.level.get(isa, "") if self.flags_told else ""
        return template.replace("{level}", level)

    def debug_for(self, target: str) -> tuple[str, ...]:
        """Return the fixed debug flags for a target."""
        own = self.per_isa.get(isa_name(target), {}).get("debug_flags", self.debug_flags)
        return tuple(own)


class Driver(NamedTuple):
    """One compiler command found on this machine, after asking it what it is."""

    command: str  # as a person would type it: "gcc-12"
    path: str
    family: str
    language: str
    version: str
    target: str
    identity: str  # changes whenever the compiler's files change
    backs: tuple[str, ...] = ()  # back ends it holds, where its family serves several targets


class OnMachine(NamedTuple):
    """Where a toolchain is that is not here."""

    machine: str
    content: str  # equal for the very same compiler


class Toolchain(NamedTuple):
    """Drivers of one compiler, by language, under the name people use for it."""

    name: str
    aliases: tuple[str, ...]
    family: str
    version: str
    target: str
    drivers: Mapping[str, Driver]
    can: Mapping[str, bool]  # ability ("compile", "assemble", "link", "run") -> here?
    binutils: str | None = ""  # prefix of its assembler, linker, disassembler; None: there are none
    flags: tuple[str, ...] = ()  # fixed, for the target
    language_flags: Mapping[str, tuple[str, ...]] = {}
    machines: tuple["OnMachine", ...] = ()  # of a fleet that alone have it; () where it is here

    @property
    def isa(self) -> str:
        """The instruction set it makes code for, "" for one that cannot be read."""
        return isa_name(self.target)

    @property
    def major(self) -> int:
        """The first number of its version."""
        return int(self.version.split(".")[0])


def family_from_table(table: Mapping[str, Any]) -> Family:
    """Return the family that a toolchain data file describes."""
    names = table["commands"]
    return Family(
        name=table["family"],
        style=table["style"],
        commands=names,
        also=table.get("also", {}),
        prefixed=table.get("prefixed", False),
        asks=tuple(table["asks"]),
        version_pattern=table["version_pattern"],
        target_pattern=table.get("target_pattern", ""),
        target=table.get("target", ""),
        name_parts=table.get("name_parts", 1),
        debug_flags=tuple(table["debug_flags"]),
        variable_flags=tuple(table["variable_flags"]),
        renames_folder=table.get("renames_folder", ""),
        interface_flags=tuple(table.get("interface_flags", ())),
        diagnostics_flags=tuple(table["diagnostics_flags"]),
        remark_flags=tuple(table.get("remark_flags", ())),
        remarks_since=table.get("remarks_since", 0),
        records=_records(table["records"]) if "records" in table else None,
        flags_told=_flags_told(table["flags_told"]) if "flags_told" in table else None,
        diagnostics_since=table.get("diagnostics_since", 0),
        diagnostics=table["diagnostics"],
        sanitizer_flags=tuple(table.get("sanitizer_flags", ())),
        trap_flags=tuple(table.get("trap_flags", ())),
        race_flags=tuple(table.get("race_flags", ())),
        unset_flags=tuple(table.get("unset_flags", ())),
        reach_flags=tuple(table.get("reach_flags", ())),
        warning_flags=tuple(table.get("warning_flags", ())),
        front=_front(table["front"]) if "front" in table else None,
        cures=tuple(
            Cure(tuple(c["flags"]), c["means"], tuple(c.get("isas", ())))
            for c in table.get("cure", ())
        ),
        profiling=_profiling(table["profile"]) if "profile" in table else None,
        experiments=tuple(map(_flag_experiment, table.get("experiment", ()))),
        helpers=tuple(table["helpers"]),
        text_is_object=table["text_is_object"],
        install=table["install"],
        installs=table.get("installs", {}),
        per_isa=table.get("isa", {}),
        targets={
            name: _target(name, target, table) for name, target in table.get("targets", {}).items()
        },
        cross=table.get("cross", {}),
    )


def _records(table: Mapping[str, Any]) -> Records:
    return Records(
        tuple(table["flags"]), table["form"], table.get("since", 0), table.get("stages", "")
    )


def _profiling(table: Mapping[str, Any]) -> Profiling:
    flags = tuple(table["make"]), tuple(table["use"])
    return Profiling(table["form"], *flags, table.get("merge", ""))


def _flag_experiment(table: Mapping[str, Any]) -> FlagExperiment:
    return FlagExperiment(
        tuple(table["flags"]),
        table["why"],
        table.get("promise", ""),
        tuple(table.get("when", ())),
        tuple(table.get("breaks", ())),
        table.get("loosens", False),
        tuple(table.get("isas", ())),
        table.get("several", False),
    )


def _flags_told(table: Mapping[str, Any]) -> FlagsTold:
    return FlagsTold(
        table["form"],
        tuple(map(tuple, table["asks"])),
        tuple(table.get("macros", ())),
        table.get("level", {}),
    )


def _front(table: Mapping[str, Any]) -> Front:
    return Front(
        tuple(table["variables"]),
        tuple(table["files"]),
        tuple(table["beside"]),
        tuple(table["asks"]),
        table["real"],
    )


def _target(name: str, table: Mapping[str, Any], family: Mapping[str, Any]) -> Target:
    own = {language: language for language in family["commands"].values()}
    return Target(
        name,
        table["triple"],
        table["needs"],
        table.get("binutils"),
        tuple(table.get("flags", ())),
        table.get("languages", {**own, **family.get("also", {})}),
        {name: tuple(flags) for name, flags in table.get("language_flags", {}).items()},
    )


def split_command(name: str, families: Iterable[Family]) -> tuple[Family, str, str] | None:
    """Split a command name such as "avr-g++-12" into family, language and target prefix.

    Returns None for a name that is no family's compiler.
    """
    found = re.fullmatch(r"((?:[\w.]+-)*?)([a-z+]+)((?:-\d+(?:\.\d+)*)?)", name)
    if not found:
        return None
    prefix = found[1].rstrip("-")
    for family in families:
        language = family.commands.get(found[2])
        if language and (not prefix or family.prefixed):
            return family, language, prefix
    return None


def read_identity(text: str, family: Family) -> tuple[str, str] | None:
    """Read (version, target) from what a compiler says of itself.

    Returns None when the text does not look like this family at all.
    """
    version = re.search(family.version_pattern, text)
    target = re.search(family.target_pattern, text) if family.target_pattern else None
    named = target[1] if target else family.target
    return (version[1], named) if version and named else None


def runs_natively(target: str, machine: str) -> bool:
    """Tell whether code for ``target`` runs on a Linux ``machine`` as it is."""
    return target.split("-")[0] == machine and "linux" in target


def without_system(target: str) -> bool:
    """Tell whether code for ``target`` is for chips that run no operating system."""
    return "linux" not in target


def group_drivers(
    drivers: Iterable[Driver], families: Mapping[str, Family], machine: str
) -> tuple[Toolchain, ...]:
    """Join the drivers of one compiler into toolchains, newest version last.

    Two commands are one toolchain when family, version and target agree; the
    other command names become aliases. A compiler for another machine goes by
    its command: ``avr-gcc``.
    """
    by_key: dict[tuple[str, str, str], list[Driver]] = {}
    for driver in drivers:
        by_key.setdefault((driver.family, driver.version, driver.target), []).append(driver)
    order = sorted(
        by_key,
        key=lambda key: (key[0], not runs_natively(key[2], machine), key[2], _numbers(key[1])),
    )
    chains: list[Toolchain] = []
    taken: set[str] = set()
    for key in order:
        chain = _toolchain(key, by_key[key], families[key[0]], machine, taken)
        taken.add(chain.name)
        chains.append(chain)
    return _with_family_aliases(chains)


def _toolchain(
    key: tuple[str, str, str], same: list[Driver], family: Family, machine: str, taken: set[str]
) -> Toolchain:
    _, version, target = key
    per_language: dict[str, list[Driver]] = {}
    for driver in same:
        per_language.setdefault(driver.language, []).append(driver)
    # The longest command is the one that names its version.
    best = {
        language: max(found, key=lambda driver: (len(driver.command), driver.command))
        for language, found in per_language.items()
    }
    best |= {more: best[base] for more, base in family.also.items() if base in best}
    native = runs_natively(target, machine)
    if native or not family.prefixed:
        name = f"{family.name}-{'.'.join(version.split('.')[: family.name_parts])}"
        name = name if name not in taken else f"{family.name}-{version}"
    else:
        commands = {driver.command for driver in same}
        main = next(command for command, language in family.commands.items() if language == "c")
        first = sorted(c for c in commands if re.search(rf"-{re.escape(main)}(-[\d.]+)?$", c))
        name = next((c for c in first or sorted(commands) if c not in taken), version)
    aliases = sorted({driver.command for driver in same} - {name})
    can = {"compile": True, "link": native, "run": native}
    binutils = None if not has_objects(isa_name(target)) else "" if native else target
    return Toolchain(name, tuple(aliases), family.name, version, target, best, can, binutils)


def _with_family_aliases(chains: list[Toolchain]) -> tuple[Toolchain, ...]:
    """Let a bare family name such as "clang" mean the newest one where no command is called so."""
    taken = {name for chain in chains for name in (chain.name, *chain.aliases)}
    native = [i for i, c in enumerate(chains) if c.can["run"] or c.binutils is None]
    newest = {chains[index].family: index for index in native}
    for family, index in newest.items():
        if family not in taken:
            chain = chains[index]
            chains[index] = chain._replace(aliases=(*chain.aliases, family))
    return tuple(chains)


_TARGET_FLAG = "--target="


def named_targets(flags: Iterable[str]) -> list[str]:
    """Return the target triples that flags name, in their order; a compiler takes the last."""
    return [f.removeprefix(_TARGET_FLAG) for f in flags if f.startswith(_TARGET_FLAG)]


def retarget(chain: Toolchain, target: Target, native: bool) -> Toolchain:
    """Return a toolchain that serves another target: ``clang-16@riscv64``."""
    drivers = {
        language: chain.drivers[base]
        for language, base in target.languages.items()
        if base in chain.drivers
    }
    return Toolchain(
        f"{chain.name}@{target.name}",
        tuple(f"{alias}@{target.name}" for alias in chain.aliases),
        chain.family,
        chain.version,
        target.triple,
        drivers,
        {"compile": True, "link": native, "run": native},
        target.binutils,
        (f"{_TARGET_FLAG}{target.triple}", *target.flags),
        target.language_flags,
    )


def find_toolchain(name: str, toolchains: Iterable[Toolchain]) -> Toolchain | None:
    """Return the toolchain of this name or alias, or None."""
    for chain in toolchains:
        if name == chain.name or name in chain.aliases:
            return chain
    return None


def flags_for_family(value: Any, family: str, where: str) -> str | None:
    """Return the flag text that a flag set gives a family, None where it gives none.

    A table gives each family its own text; what stands under ``other`` is
    for all families that it does not name.
    """
    if isinstance(value, str):
        return value
    if isinstance(value, Mapping):
        found = value.get(family, value.get("other"))
        if found is None or isinstance(found, str):
            return found
    raise RequestError(f"{where}: flags are a text, or a table with a text for each family.")


def _numbers(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split("."))
