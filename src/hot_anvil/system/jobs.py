"""Compile jobs: what identifies one, and finding its result in the store.

Kept apart from the compiling itself, which a warm run never needs.
"""

import os
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core import code as code_records
from hot_anvil.core.bench import language_of
from hot_anvil.core.built import Unit
from hot_anvil.core.diagnostics import Diagnostic
from hot_anvil.core.errors import RequestError
from hot_anvil.core.grid import Build
from hot_anvil.core.proof import Proof
from hot_anvil.core.toolchain import Driver, Family, Toolchain
from hot_anvil.system.files import digest, read_json
from hot_anvil.system.store import FORMAT, Store

# Variables by which the environment changes what a compiler makes.
_VARIABLES = [
    "CPATH",
    "C_INCLUDE_PATH",
    "CPLUS_INCLUDE_PATH",
    "GCC_EXEC_PREFIX",
    "COMPILER_PATH",
    "SOURCE_DATE_EPOCH",
]
_OURS = (
    "-o", "-c", "-S", "-E", "-x", "-r", "-shared", "-###", "-fsyntax-only", "-v", "--version",
)  # fmt: skip


class Job(NamedTuple):
    """One source to compile under one build."""

    source: str
    build: Build
    toolchain: Toolchain
    family: Family
    key: str

    @property
    def driver(self) -> Driver:
        """The driver for the source's language."""
        return self.toolchain.drivers[language_of(self.source)]


def make_job(source: str, build: Build, chain: Toolchain, family: Family, root: str) -> Job:
    """Return the job; its key covers everything but the contents of files read."""
    check_flags(build)
    job = Job(source, build, chain, family, "")
    environment = [f"{name}={os.environ.get(name, '')}" for name in _VARIABLES]
    machine = _this_cpu() if any("native" in flag for flag in build.flags) else ""
    words = compiler_argv(job, "-S", "")
    key = digest(str(FORMAT), job.driver.identity, root, machine, *environment, *words)
    return job._replace(key=key)


def check_flags(build: Build) -> None:
    """Refuse flags that say what to make, which is this tool's part."""
    for flag in build.flags:
        if flag in _OURS or flag.startswith(("-save-temps", "-M", "-o")):
            raise RequestError(
                f"{build.name}: the flag {flag} says what to make or where; leave it to "
                "Hot Anvil and give only flags that change the code."
            )
        if flag.startswith("-masm="):
            raise RequestError(
                f"{build.name}: {flag} changes no code, only how it is written, and this version "
                "of Hot Anvil shows AT&T syntax; leave the flag out."
            )
        if flag.startswith("-flto") or flag == "-fwhole-program":
            raise RequestError(
                f"{build.name}: with {flag} the code is made while linking, and this version "
                "of Hot Anvil cannot show that code yet; leave the flag out."
            )


def find_unit(job: Job, store: Store) -> Unit | None:
    """Return the unit from the store, None when it must be compiled."""
    name = store.lookup(job.key)
    return _load(job, store, name) if name else None


def load_code(unit: Unit, store: Store) -> code_records.Code:
    """Return the functions of a compiled unit."""
    plain = read_json(store.artefact(unit.artefact) / "code.json")
    if plain is None:
        raise RequestError(
            f"{store.folder}: the artefact of {unit.source} is damaged. Delete the folder "
            "(it only costs time) and run the command again."
        )
    return code_records.from_plain(plain)


def compiler_argv(job: Job, what: str, output: str, more: Sequence[str] = ()) -> list[str]:
    source = job.source if not job.source.startswith("-") else f"./{job.source}"
    fixed = [*job.family.debug_flags, *job.family.diagnostics_flags, *more]
    return [job.driver.path, *job.build.flags, *fixed, what, "-o", output, source]


def _this_cpu() -> str:
    """Return a text that tells this kind of CPU from others, for ``-march=native``."""
    wanted = ("vendor_id", "cpu family", "model", "stepping", "flags")
    try:
        lines = Path("/proc/cpuinfo").read_text().split("\n\n")[0].split("\n")
    except OSError:
        return ""
    return "\n".join(line for line in lines if line.startswith(wanted))


def _load(job: Job, store: Store, name: str) -> Unit | None:
    plain = read_json(store.artefact(name) / "unit.json")
    if not isinstance(plain, dict):
        return None
    plain["diagnostics"] = tuple(Diagnostic(*row) for row in plain["diagnostics"])
    plain["proof"] = Proof(*plain["proof"])
    plain["artefact"] = name
    return Unit(**plain)
