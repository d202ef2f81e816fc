"""Builds: toolchain x flag set, and which of them a bench asks for."""

import shlex
from collections.abc import Sequence
from typing import NamedTuple

from hot_anvil.core.bench import Bench, Snippet, language_of
from hot_anvil.core.errors import MissingError, RequestError
from hot_anvil.core.names import listed, matches, nearest
from hot_anvil.core.toolchain import Family, Toolchain, find_toolchain, flags_for_family


class Build(NamedTuple):
    """One toolchain with one flag set."""

    toolchain: str
    flag_set: str  # "" when the flags were given in place
    flags: tuple[str, ...]

    @property
    def name(self) -> str:
        """How people write it: ``gcc-12:fast``, or ``gcc-12 -O2`` for flags given in place."""
        if self.flag_set:
            return f"{self.toolchain}:{self.flag_set}"
        return " ".join((self.toolchain, *self.flags))


class Plan(NamedTuple):
    """The builds of a bench on this machine, and what could not be had."""

    builds: tuple[Build, ...]
    reference: Build
    baseline: Build
    notes: tuple[str, ...]


def plan_builds(bench: Bench, toolchains: Sequence[Toolchain], families: Sequence[Family]) -> Plan:
    """Expand the grid of a bench over the toolchains of this machine.

    Raises MissingError when no build is left, RequestError for names that
    cannot be meant.
    """
    notes: list[str] = []
    if bench.explicit:
        builds = tuple(_explicit(text, toolchains, families) for text in bench.explicit)
    else:
        builds = _from_grid(bench, toolchains, families, notes)
    builds = tuple(dict.fromkeys(builds))
    reference = _named(bench, bench.grid.reference, "reference", builds, toolchains, notes)
    baseline = reference
    if bench.grid.baseline:
        baseline = _named(bench, bench.grid.baseline, "baseline", builds, toolchains, notes)
    return Plan(builds, reference, baseline, tuple(notes))


def find_build(name: str, builds: Sequence[Build], toolchains: Sequence[Toolchain]) -> Build:
    """Return the build of this name; a toolchain's alias will do.

    Raises RequestError that names the nearest build.
    """
    for build in builds:
        if name in _names(build, toolchains):
            return build
    known = [build.name for build in builds]
    close = nearest(name, [*known, *(n for b in builds for n in _names(b, toolchains))])
    hint = f" Did you mean '{close}'?" if close else ""
    raise RequestError(f"No build is called '{name}'.{hint} The builds are: {listed(known)}.")


def command_line(build: Build, toolchain: Toolchain, snippet: Snippet) -> str:
    """Return the command a person types to get this build's objects."""
    commands = []
    by_command: dict[tuple[str, ...], list[str]] = {}
    for source in snippet.sources_for(toolchain.drivers):
        language = language_of(source)
        driver = toolchain.drivers[language]
        what = ("--crate-type=lib", "--emit=obj") if language == "rust" else ("-c",)
        what = ("-ptx",) if driver.family == "nvcc" else what
        own = snippet.source_flags.get(source, ())
        words = (driver.command, *build.flags, *own, *toolchain.flags, *what)
        by_command.setdefault(words, []).append(source)
    for words, sources in by_command.items():
        commands.append(shlex.join([*words, *sources]))
    return " && ".join(commands)


def _names(build: Build, toolchains: Sequence[Toolchain]) -> list[str]:
    chain = find_toolchain(build.toolchain, toolchains)
    aliases = chain.aliases if chain else ()
    return [build.name, *(build._replace(toolchain=alias).name for alias in aliases)]


def _from_grid(
    bench: Bench, toolchains: Sequence[Toolchain], families: Sequence[Family], notes: list[str]
) -> tuple[Build, ...]:
    builds = []
    for chain in _wanted(bench, toolchains, families, notes):
        for flag_set in bench.grid.flags:
            text = flags_for_family(
                bench.flags[flag_set], chain.family, f"{bench.file}: flags.{flag_set}"
            )
            if text is None:
                continue
            flags = split_flags(text, f"{bench.file}: flags.{flag_set}")
            build = Build(chain.name, flag_set, flags)
            names = _names(build, toolchains)
            if not any(matches(name, p) for p in bench.grid.excepted for name in names):
                builds.append(build)
    if not builds:
        wanted = listed(bench.grid.toolchains) or "any compiler"
        installs = " or ".join(f"'{family.install}'" for family in families)
        raise MissingError(
            f"{bench.file}: no build is left to make: the bench asks for {wanted}, this machine "
            f"has {listed(chain.name for chain in toolchains) or 'no compiler at all'}. "
            f"Install one (on Debian {installs}), or change grid.toolchains."
        )
    return tuple(builds)


def _wanted(
    bench: Bench, toolchains: Sequence[Toolchain], families: Sequence[Family], notes: list[str]
) -> list[Toolchain]:
    patterns = bench.grid.toolchains
    languages = {language for snippet in bench.snippets for language in snippet.languages}
    if not patterns:
        fitting = [chain for chain in toolchains if languages & set(chain.drivers)]
        for chain in toolchains:
            if chain.can["run"] and not _all_elsewhere(bench, chain, toolchains):
                lacking = listed(sorted(languages - set(chain.drivers)))
                notes.append(f"{chain.name} is left out: it has no {lacking} compiler here.")
        return [chain for chain in fitting if chain.can["run"]] or fitting
    chosen: list[Toolchain] = []
    for pattern in patterns:
        found = [
            chain
            for chain in toolchains
            # A glob means compilers for this machine; other targets are named.
            if any(
                matches(name, pattern) and ("@" in pattern or "@" not in name)
                for name in (chain.name, *chain.aliases)
            )
        ]
        usable = [chain for chain in found if languages & set(chain.drivers)]
        for chain in found:
            lacking = listed(sorted(languages - set(chain.drivers)))
            if chain not in usable:
                notes.append(f"{chain.name} is left out: it has no {lacking} compiler here.")
            elif lacking and not _all_elsewhere(bench, chain, toolchains):
                notes.append(f"{chain.name} leaves out what is in {lacking}: it has no compiler.")
        if not found:
            notes.append(f"{pattern}: not on this machine{_install_hint(pattern, families)}.")
        chosen += [chain for chain in usable if chain not in chosen]
    return chosen


def _all_elsewhere(bench: Bench, chain: Toolchain, toolchains: Sequence[Toolchain]) -> bool:
    """Tell whether a toolchain only leaves out languages that its family never takes."""
    family = {language for c in toolchains if c.family == chain.family for language in c.drivers}
    lacking = {x for s in bench.snippets for x in s.languages} - set(chain.drivers)
    return not lacking & family


def _install_hint(pattern: str, families: Sequence[Family]) -> str:
    for family in families:
        if pattern.startswith((*family.commands, family.name)):
            return f" (on Debian: {family.install})"
        for target, install in family.cross.items():
            if pattern.startswith(target):
                return f" (on Debian: {install})"
    return ""


def _explicit(text: str, toolchains: Sequence[Toolchain], families: Sequence[Family]) -> Build:
    words = split_flags(text, f"--build '{text}'")
    if not words:
        raise RequestError("--build needs a compiler and its flags, such as --build 'gcc -O2'.")
    chain = find_toolchain(words[0], toolchains)
    if chain is None:
        names = [name for c in toolchains for name in (c.name, *c.aliases)]
        close = nearest(words[0], names)
        hint = f" Did you mean '{close}'?" if close else _install_hint(words[0], families)
        raise MissingError(
            f"--build '{text}': no compiler '{words[0]}' was found.{hint} "
            f"This machine has: {listed(names) or 'none'}."
        )
    return Build(chain.name, "", words[1:])


def _named(
    bench: Bench,
    name: str,
    role: str,
    builds: Sequence[Build],
    toolchains: Sequence[Toolchain],
    notes: list[str],
) -> Build:
    if not name:
        return builds[0]
    try:
        return find_build(name, builds, toolchains)
    except RequestError as error:
        # The bench may name a compiler that this machine lacks: the same flags will do.
        same_flags = [b for b in builds if b.flag_set and b.flag_set == name.rpartition(":")[2]]
        if not same_flags:
            raise RequestError(f"{bench.file}: grid.{role}: {error}") from None
        notes.append(f"The {role} {name} is not to be had here: {same_flags[0].name} serves.")
        return same_flags[0]


def split_flags(text: str, where: str) -> tuple[str, ...]:
    """Split flags as a shell does; raises RequestError on an open quote."""
    try:
        return tuple(shlex.split(text))
    except ValueError as error:
        raise RequestError(f"{where}: cannot be split into words ({error}).") from None
