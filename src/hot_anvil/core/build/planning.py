"""Which builds a bench asks for, on the toolchains of this machine."""

from collections.abc import Mapping, Sequence

from hot_anvil.core.build.builds import Build, Plan, find_build, names_of, split_flags
from hot_anvil.core.config.records import PROFILE, Bench, Snippet
from hot_anvil.core.names import listed, matches, nearest
from hot_anvil.core.toolchain.records import Family, Toolchain, find_toolchain, flags_for_family
from hot_anvil.errors import MissingError, RequestError


def plan_builds(bench: Bench, toolchains: Sequence[Toolchain], families: Sequence[Family]) -> Plan:
    """Expand the grid of a bench over the toolchains of this machine.

    Raises MissingError when no build is left, RequestError for names that
    cannot be meant.
    """
    notes: list[str] = []
    of = _builds_of(bench, toolchains, families, notes)
    builds = tuple(dict.fromkeys(build for own in of.values() for build in own))
    if not builds:
        raise _no_build(bench, toolchains, families)
    reference = _named(bench, bench.grid.reference, "reference", builds, toolchains, notes)
    baseline = reference
    if bench.grid.baseline:
        baseline = _named(bench, bench.grid.baseline, "baseline", builds, toolchains, notes)
    return Plan(builds, reference, baseline, tuple(dict.fromkeys(notes)), of)


def _builds_of(
    bench: Bench, toolchains: Sequence[Toolchain], families: Sequence[Family], notes: list[str]
) -> dict[str, tuple[Build, ...]]:
    """Return the builds of each snippet."""
    of: dict[str, tuple[Build, ...]] = {}
    if bench.explicit:
        given = tuple(_explicit(text, toolchains, families) for text in bench.explicit)
        given = tuple(dict.fromkeys(given))
        return {snippet.name: given for snippet in bench.snippets}
    for snippet in bench.snippets:
        of[snippet.name] = _from_grid(bench, snippet, toolchains, families, notes)
        if not of[snippet.name]:
            notes.append(f"{snippet.name} has no build here.")
    return of


def _from_grid(
    bench: Bench,
    snippet: Snippet,
    toolchains: Sequence[Toolchain],
    families: Sequence[Family],
    notes: list[str],
) -> tuple[Build, ...]:
    builds = []
    for chain in _wanted(bench, snippet, toolchains, families, notes):
        for flag_set in snippet.flags or bench.grid.flags:
            text = flags_for_family(
                bench.flags[flag_set], chain.family, f"{bench.file}: flags.{flag_set}"
            )
            if text is None:
                continue
            flags = split_flags(text, f"{bench.file}: flags.{flag_set}")
            value = bench.flags[flag_set]
            profiled = isinstance(value, Mapping) and bool(value.get(PROFILE))
            build = Build(chain.name, flag_set, flags, profiled=profiled)
            names = names_of(build, toolchains)
            if not any(matches(name, p) for p in bench.grid.excepted for name in names):
                builds.append(build)
    return tuple(builds)


def _no_build(
    bench: Bench, toolchains: Sequence[Toolchain], families: Sequence[Family]
) -> MissingError:
    patterns = [p for snippet in bench.snippets for p in snippet.toolchains]
    wanted = listed(dict.fromkeys([*bench.grid.toolchains, *patterns])) or "any compiler"
    languages = {language for snippet in bench.snippets for language in snippet.languages}
    able = [f for f in families if languages & {*f.commands.values(), *f.also}]
    installs = " or ".join(f"'{family.install}'" for family in able)
    return MissingError(
        f"{bench.file}: no build is left to make: the bench asks for {wanted}, this machine "
        f"has {listed(chain.name for chain in toolchains) or 'no compiler at all'}. "
        f"Install one (on Debian {installs}), or change grid.toolchains."
    )


def _wanted(
    bench: Bench,
    snippet: Snippet,
    toolchains: Sequence[Toolchain],
    families: Sequence[Family],
    notes: list[str],
) -> list[Toolchain]:
    patterns = snippet.toolchains or bench.grid.toolchains
    languages = set(snippet.languages)
    if not patterns:
        fitting = [chain for chain in toolchains if languages & set(chain.drivers)]
        for chain in toolchains:
            if chain.can["run"] and not _all_elsewhere(languages, chain, toolchains):
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
            elif lacking and not _all_elsewhere(languages, chain, toolchains):
                notes.append(f"{chain.name} leaves out what is in {lacking}: it has no compiler.")
        if not found:
            notes.append(f"{pattern}: not on this machine{_install_hint(pattern, families)}.")
        chosen += [chain for chain in usable if chain not in chosen]
    return chosen


def _all_elsewhere(languages: set[str], chain: Toolchain, toolchains: Sequence[Toolchain]) -> bool:
    """Tell whether a toolchain only leaves out languages that its family never takes."""
    family = {language for c in toolchains if c.family == chain.family for language in c.drivers}
    return not (languages - set(chain.drivers)) & family


def _install_hint(pattern: str, families: Sequence[Family]) -> str:
    for family in families:
        if pattern.startswith((*family.commands, family.name)):
            return f" (on Debian: {family.install})"
        for target, install in family.cross.items():
            if pattern.startswith(target):
                return f" (on Debian: {install})"
    return ""


def _explicit(text: str, toolchains: Sequence[Toolchain], families: Sequence[Family]) -> Build:
    words = split_flags(text, f"'{text}'")
    if not words:
        raise RequestError(
            "a compiler and its flags are needed, such as 'gcc -O2'.", about="builds"
        )
    chain = find_toolchain(words[0], toolchains)
    if chain is None:
        names = [name for c in toolchains for name in (c.name, *c.aliases)]
        close = nearest(words[0], names)
        hint = f" Did you mean '{close}'?" if close else _install_hint(words[0], families)
        raise MissingError(
            f"'{text}': no compiler '{words[0]}' was found.{hint} "
            f"This machine has: {listed(names) or 'none'}.",
            about="builds",
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
