"""Compile jobs: what identifies one, and finding its result in the store.

Kept apart from the compiling itself, which a warm run never needs.
"""

import os
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core.arch import isa_name
from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.project_flags import without_levels
from hot_anvil.core.build.records import Unit
from hot_anvil.core.code.records import Code
from hot_anvil.core.code.stored import from_plain
from hot_anvil.core.codec import read
from hot_anvil.core.config.records import Snippet, language_of
from hot_anvil.core.toolchain.invocation import OURS, TEXT, Call, argv_of
from hot_anvil.core.toolchain.records import Driver, Family, Toolchain, named_targets
from hot_anvil.errors import RequestError
from hot_anvil.system.store.files import digest, read_json
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store
from hot_anvil.system.toolchain.packages import package_flags

# Variables by which the environment changes what a compiler makes.
_VARIABLES = [
    "CPATH",
    "C_INCLUDE_PATH",
    "CPLUS_INCLUDE_PATH",
    "GCC_EXEC_PREFIX",
    "COMPILER_PATH",
    "SOURCE_DATE_EPOCH",
]
_DATA = Path(__file__).parent.parent.parent / "data"


class Job(NamedTuple):
    """One source to compile under one build."""

    source: str
    build: Build
    toolchain: Toolchain
    family: Family
    key: str
    more: tuple[str, ...] = ()  # the source's own flags, behind the build's
    plain: bool = False  # without our debug flag: to prove that it changes nothing
    # (folder it is compiled in, what that is to be called in debug info), where these differ
    called: tuple[str, str] = ("", "")

    def root_in(self, folder: str) -> str:
        """Return what debug info calls the folder that it is compiled in."""
        return self.called[1] or folder

    @property
    def language(self) -> str:
        """The language of the source."""
        return language_of(self.source)

    @property
    def driver(self) -> Driver:
        """The driver for the source's language."""
        return self.toolchain.drivers[self.language]

    @property
    def flags(self) -> tuple[str, ...]:
        """All flags that change the code."""
        return (*self.build.flags, *self.more)

    @property
    def diagnostics(self) -> str:
        """The form of what the compiler complains in."""
        asked = self.toolchain.major >= self.family.diagnostics_since
        return self.family.diagnostics[self.language] if asked else "text"


def make_job(
    source: str,
    build: Build,
    chain: Toolchain,
    family: Family,
    root: str,
    more: tuple[str, ...] = (),
) -> Job:
    """Return the job; its key covers everything but the contents of files read."""
    check_flags(build, family)
    _check_target(build, chain, family)
    job = Job(source, build, chain, family, "", more)
    environment = [f"{name}={os.environ.get(name, '')}" for name in _VARIABLES]
    machine = _this_cpu() if any("native" in flag for flag in job.flags) else ""
    words = compiler_argv(job, TEXT, "", "")
    key = digest(stage_digest("code"), job.driver.identity, root, machine, *environment, *words)
    return job._replace(key=key)


def snippet_jobs(
    snippet: Snippet, build: Build, chain: Toolchain, family: Family, root: str
) -> list[Job]:
    """Return a job for each source of a snippet that the toolchain has a compiler for."""
    jobs = []
    packages = package_flags(snippet)
    for source in snippet.sources_for(chain.drivers):
        project = without_levels(snippet.project_flags.get(source, ()), build.flags)
        own = (*project, *snippet.source_flags.get(source, ()), *packages)
        jobs.append(make_job(source, build, chain, family, root, own))
    return jobs


def check_flags(build: Build, family: Family) -> None:
    """Refuse flags that say what to make, which is this tool's part."""
    exact, starts = OURS[family.style]
    _check_whole(build)
    for flag in build.flags:
        if flag in exact or flag.startswith(starts):
            raise RequestError(
                f"{build.name}: the flag {flag} says what to make or where; leave it to "
                "Hot Anvil and give only flags that change the code."
            )
        if flag.startswith("-masm="):
            raise RequestError(
                f"{build.name}: {flag} changes no code, only how it is written; leave it out and "
                "choose the syntax where the code is shown."
            )


def _check_whole(build: Build) -> None:
    if "-fwhole-program" in build.flags:
        raise RequestError(
            f"{build.name}: -fwhole-program drops every function that no main() of the snippet "
            "uses, entries too. Say -flto: it also sees the whole program, and keeps what is "
            "called from outside."
        )


def _check_target(build: Build, chain: Toolchain, family: Family) -> None:
    """Refuse a flag that says another machine than the toolchain is for."""
    for wanted in named_targets(build.flags):
        other = isa_name(wanted)
        if other == chain.isa:
            continue
        known = [t for t in family.targets.values() if isa_name(t.triple) == other]
        known.sort(key=lambda t: t.triple[:4] != wanted[:4])
        named = f" {chain.name.partition('@')[0]}@{known[0].name}, or" if known else ""
        raise RequestError(
            f"{build.name}: the flag --target={wanted} says another machine than the toolchain is "
            f"for. Name it with the toolchain:{named} one in a [toolchain.NAME] of the bench."
        )


def links_late(flags: Sequence[str]) -> bool:
    """Tell whether these flags put off making the code until linking."""
    late = False
    for flag in flags:
        if flag.startswith("-flto"):
            late = True
        elif flag == "-fno-lto":
            late = False
    return late


def find_unit(job: Job, store: Store) -> Unit | None:
    """Return the unit from the store, None when it must be compiled."""
    name = store.lookup(job.key)
    return load_unit(store, name) if name else None


def find_earlier(job: Job, store: Store, steps: int) -> Unit | None:
    """Return what the job made of the ``steps``-th state of its files before the last one."""
    names = store.earlier(job.key)
    return load_unit(store, names[steps - 1]) if len(names) >= steps else None


def load_sources(unit: Unit, store: Store) -> dict[str, list[str]]:
    """Return the lines of the bench's own files, as they were when the unit was compiled."""
    kept = read_json(store.artefact(unit.artefact).sources) or {}
    return {file: text.replace("\r\n", "\n").split("\n") for file, text in kept.items()}


def load_remarks(unit: Unit, store: Store) -> tuple[tuple[str, int, str], ...]:
    """Return what the compiler said that it did: (file, line, text)."""
    rows = read_json(store.artefact(unit.artefact).remarks) or []
    return tuple((file, line, text) for file, line, text in rows)


def load_code(unit: Unit, store: Store) -> Code:
    """Return the functions of a compiled unit."""
    return store.read_once(store.artefact(unit.artefact).code, from_plain)


def compiler_argv(
    job: Job, make: str, output: str, rule: str, more: Sequence[str] = ()
) -> list[str]:
    """Return the command that makes ``output`` (TEXT or OBJECT) of the job's source."""
    family, chain = job.family, job.toolchain
    told = family.diagnostics_flags if job.diagnostics == family.diagnostics[job.language] else ()
    if job.diagnostics == "gfortran":
        told = ()
    own = chain.language_flags.get(job.language, chain.flags)
    target = [flag.replace("{data}", str(_DATA)) for flag in own]
    debug = () if job.plain else family.debug_for(chain.target)
    names = [f"{family.renames_folder}{here}={name}" for here, name in [job.called] if here]
    fixed = (*target, *debug, *(names if family.renames_folder else ()), *told, *more)
    call = Call(job.driver.path, job.flags, fixed, make, output, rule, job.source, job.language)
    return argv_of(call, family.style)


def _this_cpu() -> str:
    """Return a text that tells this kind of CPU from others, for ``-march=native``."""
    wanted = ("vendor_id", "cpu family", "model", "stepping", "flags")
    try:
        lines = Path("/proc/cpuinfo").read_text().split("\n\n")[0].split("\n")
    except OSError:
        return ""
    return "\n".join(line for line in lines if line.startswith(wanted))


def load_unit(store: Store, name: str) -> Unit | None:
    """Return the unit of an artefact, None when the store has it no longer."""
    plain = read_json(store.artefact(name).unit)
    return read(Unit, plain)._replace(artefact=name) if isinstance(plain, list) else None
