"""Builds: toolchain x flag set, and which of them a bench asks for."""

import shlex
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.config.records import Snippet, language_of
from hot_anvil.core.names import listed, nearest
from hot_anvil.core.toolchain.records import Toolchain, find_toolchain
from hot_anvil.errors import RequestError


class Build(NamedTuple):
    """One toolchain with one flag set."""

    toolchain: str
    flag_set: str  # "" when the flags were given in place
    flags: tuple[str, ...]
    earlier: int = 0  # number of the measurement whose code this is, 0 for what it makes now
    profiled: bool = False  # compiled with what a run of the bench's inputs showed
    trial: str = ""  # the experiment that it is of, "" for the bench's own

    @property
    def name(self) -> str:
        """How people write it: ``gcc-12:fast``, or ``gcc-12 -O2`` for flags given in place.

        Code of an earlier measurement has its number behind it: ``gcc-12:fast#13``; what is tried
        has its experiment: ``gcc-12:fast + restrict levels``.
        """
        mark = f"#{self.earlier}" if self.earlier else ""
        mark += f" + {self.trial}" if self.trial else ""
        if self.flag_set:
            return f"{self.toolchain}:{self.flag_set}{mark}"
        return " ".join((self.toolchain, *self.flags)) + mark

    @property
    def told_flags(self) -> str:
        """Its flags as people read them, with the word "profile" where it is compiled with one."""
        return " ".join((*self.flags, *(("profile",) if self.profiled else ())))


class Plan(NamedTuple):
    """The builds of a bench on this machine, and what could not be had."""

    builds: tuple[Build, ...]
    reference: Build
    baseline: Build
    notes: tuple[str, ...]
    of: Mapping[str, tuple[Build, ...]]  # snippet -> its builds


def find_build(name: str, builds: Sequence[Build], toolchains: Sequence[Toolchain]) -> Build:
    """Return the build of this name; a toolchain's alias will do.

    Raises RequestError that names the nearest build.
    """
    for build in builds:
        if name in names_of(build, toolchains):
            return build
    known = [build.name for build in builds]
    close = nearest(name, [*known, *(n for b in builds for n in names_of(b, toolchains))])
    hint = f" Did you mean '{close}'?" if close else ""
    raise RequestError(f"No build is called '{name}'.{hint} The builds are: {listed(known)}.")


def command_line(build: Build, toolchain: Toolchain, snippet: Snippet) -> str:
    """Return the command a person types to get this build's objects.

    With a profile it is the last of three: one with ``-fprofile-generate``, and a run, go before.
    """
    commands = []
    by_command: dict[tuple[str, ...], list[str]] = {}
    for source in snippet.sources_for(toolchain.drivers):
        language = language_of(source)
        driver = toolchain.drivers[language]
        what = ("--crate-type=lib", "--emit=obj") if language == "rust" else ("-c",)
        what = ("-ptx",) if driver.family == "nvcc" else what
        own = snippet.source_flags.get(source, ())
        trained = ("-fprofile-use",) if build.profiled else ()
        words = (driver.command, *build.flags, *trained, *own, *toolchain.flags, *what)
        by_command.setdefault(words, []).append(source)
    for words, sources in by_command.items():
        commands.append(shlex.join([*words, *sources]))
    return " && ".join(commands)


def names_of(build: Build, toolchains: Sequence[Toolchain]) -> list[str]:
    chain = find_toolchain(build.toolchain, toolchains)
    aliases = chain.aliases if chain else ()
    return [build.name, *(build._replace(toolchain=alias).name for alias in aliases)]


def split_flags(text: str, where: str) -> tuple[str, ...]:
    """Split flags as a shell does; raises RequestError on an open quote."""
    try:
        return tuple(shlex.split(text))
    except ValueError as error:
        raise RequestError(f"{where}: cannot be split into words ({error}).") from None
