"""Toolchains as values: what a family is, and reading a compiler's own words."""

import re
from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from hot_anvil.core.errors import RequestError


class Family(NamedTuple):
    """What all compilers of one family share; read from a data file."""

    name: str
    commands: Mapping[str, str]  # command name -> language ("c" or "c++")
    version_pattern: str
    debug_flags: tuple[str, ...]
    variable_flags: tuple[str, ...]
    diagnostics_flags: tuple[str, ...]
    diagnostics: str
    helpers: tuple[str, ...]
    text_is_object: bool
    install: str


class Driver(NamedTuple):
    """One compiler command found on this machine, after asking it what it is."""

    command: str  # as a person would type it: "gcc-12"
    path: str
    family: str
    language: str
    version: str
    target: str
    identity: str  # changes whenever the compiler's files change


class Toolchain(NamedTuple):
    """Drivers of one compiler, by language, under the name people use for it."""

    name: str
    aliases: tuple[str, ...]
    family: str
    version: str
    target: str
    drivers: Mapping[str, Driver]
    can: Mapping[str, bool]  # ability ("compile", "link", "run") -> here?


def family_from_table(table: Mapping[str, Any]) -> Family:
    """Return the family that a toolchain data file describes."""
    return Family(
        name=table["family"],
        commands=table["commands"],
        version_pattern=table["version_pattern"],
        debug_flags=tuple(table["debug_flags"]),
        variable_flags=tuple(table["variable_flags"]),
        diagnostics_flags=tuple(table["diagnostics_flags"]),
        diagnostics=table["diagnostics"],
        helpers=tuple(table["helpers"]),
        text_is_object=table["text_is_object"],
        install=table["install"],
    )


def split_command(name: str, families: Iterable[Family]) -> tuple[Family, str, str] | None:
    """Split a command name such as "g++-12" into family, language and suffix.

    Returns None for a name that is no family's compiler.
    """
    found = re.fullmatch(r"([a-z+]+)((?:-\d+(?:\.\d+)*)?)", name)
    if not found:
        return None
    for family in families:
        language = family.commands.get(found[1])
        if language:
            return family, language, found[2]
    return None


def read_identity(text: str, version_pattern: str) -> tuple[str, str] | None:
    """Read (version, target) from what a compiler prints for ``-v``.

    Returns None when the text does not look like this family at all.
    """
    version = re.search(version_pattern, text)
    target = re.search(r"^Target: (\S+)", text, re.MULTILINE)
    if not version or not target:
        return None
    return version[1], target[1]


def runs_natively(target: str, machine: str) -> bool:
    """Tell whether code for ``target`` runs on a Linux ``machine`` as it is."""
    return target.split("-")[0] == machine and "linux" in target


def group_drivers(drivers: Iterable[Driver], machine: str) -> tuple[Toolchain, ...]:
    """Join the drivers of one compiler into toolchains, newest version last.

    Two commands are one toolchain when family, version and target agree and
    the C driver is the same compiler by identity (a link such as ``gcc`` to
    ``gcc-12``); the other command names become aliases.
    """
    by_key: dict[tuple[str, str, str], list[Driver]] = {}
    for driver in drivers:
        by_key.setdefault((driver.family, driver.version, driver.target), []).append(driver)
    chains = []
    taken: set[str] = set()
    for family, version, target in sorted(by_key, key=lambda key: (key[0], _numbers(key[1]))):
        same = by_key[family, version, target]
        per_language: dict[str, list[Driver]] = {}
        for driver in same:
            per_language.setdefault(driver.language, []).append(driver)
        # The longest command is the one that names its version.
        best = {
            language: max(found, key=lambda driver: (len(driver.command), driver.command))
            for language, found in per_language.items()
        }
        name = f"{family}-{version.split('.')[0]}"
        name = name if name not in taken else f"{family}-{version}"
        taken.add(name)
        aliases = sorted({driver.command for driver in same} - {name})
        native = runs_natively(target, machine)
        can = {"compile": True, "link": native, "run": native}
        chains.append(Toolchain(name, tuple(aliases), family, version, target, best, can))
    return _with_family_aliases(chains)


def _with_family_aliases(chains: list[Toolchain]) -> tuple[Toolchain, ...]:
    """Let a bare family name such as "clang" mean the newest one where no command is called so."""
    taken = {name for chain in chains for name in (chain.name, *chain.aliases)}
    newest = {chain.family: index for index, chain in enumerate(chains)}
    for family, index in newest.items():
        if family not in taken:
            chain = chains[index]
            chains[index] = chain._replace(aliases=(*chain.aliases, family))
    return tuple(chains)


def find_toolchain(name: str, toolchains: Iterable[Toolchain]) -> Toolchain | None:
    """Return the toolchain of this name or alias, or None."""
    for chain in toolchains:
        if name == chain.name or name in chain.aliases:
            return chain
    return None


def flags_for_family(value: Any, family: str, where: str) -> str | None:
    """Return the flag text that a flag set gives a family, None where it gives none."""
    if isinstance(value, str):
        return value
    if isinstance(value, Mapping):
        found = value.get(family)
        if found is None or isinstance(found, str):
            return found
    raise RequestError(f"{where}: flags are a text, or a table with a text for each family.")


def _numbers(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split("."))
