"""Ask a compiler for its own forms of a function, pass by pass, in a run that is never timed."""

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

from hot_anvil.core.arch import has_objects
from hot_anvil.core.build.records import Unit
from hot_anvil.core.codec import read
from hot_anvil.core.stages.records import Stage
from hot_anvil.core.stages.rust_mir import read_functions as read_mir
from hot_anvil.errors import RequestError
from hot_anvil.system.asking import gnu_stages, llvm_stages
from hot_anvil.system.asking.proof import changed_code, check_unchanged
from hot_anvil.system.build.jobs import Job, compiler_argv, links_late
from hot_anvil.system.process.progress import Progress, no_progress
from hot_anvil.system.process.running import run_in_scope
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store


class Staged(NamedTuple):
    """A function's forms under one build."""

    stages: tuple[Stage, ...]
    code: str  # SAME where asking changed no code, else the functions that differ


def why_no_stages(job: Job) -> str:
    """Return why a compiler has no forms to show of a source, "" where it has."""
    if job.family.records is None or not job.family.records.stages:
        return f"{job.toolchain.name} shows no form between source and assembly"
    if job.language == "assembly":
        return f"{job.source} is assembly: there is nothing before it"
    if links_late(job.flags):
        return (
            f"{job.build.name} makes its code while linking; ask about a build without "
            "link-time optimisation"
        )
    if not has_objects(job.toolchain.isa):
        return (
            f"{job.toolchain.name} makes no object here, so that asking changes no code cannot be "
            "proved; what it makes is a text, which 'listing --raw' shows"
        )
    return ""


def ask_stages(
    job: Job,
    unit: Unit,
    symbol: str,
    title: str,
    store: Store,
    progress: Progress = no_progress,
) -> Staged:
    """Return what each pass left of a function, asked once for an artefact."""

    def make(work: Path) -> Any:
        if route == "gnu":
            count = unit.proof.instructions
            found = gnu_stages.function_stages(
                job, symbol, _plain(title), store, work, count, progress
            )
        else:
            found = _mir(job, title, store, work) if route == "rust" else []
            found += llvm_stages.function_stages(job, symbol, store, work)
        check_unchanged(job, unit, store)
        code = changed_code(unit, work / "code.o", store, job.toolchain.isa)
        if (work / "dumps").is_dir():
            (work / "dumps").rmdir()
        return [code, found]

    assert job.family.records is not None
    route = job.family.records.stages
    why = why_no_stages(job)
    if why:
        raise RequestError(f"{why}.")
    key = digest(f"stages {stage_digest('stages')}", json.dumps([unit.artefact, symbol]))
    code, rows = store.derive(key, make)
    return Staged(read(tuple[Stage, ...], rows), code)


def _plain(title: str) -> Sequence[str]:
    """Return the names under which a form can have a function that has no symbol yet."""
    whole = title.partition("(")[0].rpartition(" ")[2]
    return (whole, whole.rpartition("::")[2])


def _mir(job: Job, title: str, store: Store, work: Path) -> list[Stage]:
    """Return the one form that the Rust compiler has before LLVM, where it is written."""
    argv = [
        word for word in compiler_argv(job, "object", str(work / "x.o"), "")
        if not word.startswith("--emit")
    ]  # fmt: skip
    file = work / "forms.mir"
    if run_in_scope([*argv, f"--emit=mir={file}"], store.root).failed:
        return []
    with file.open(errors="surrogateescape") as lines:
        bodies = [b for b in read_mir(lines) if _plain(b.function)[1] == _plain(title)[1]]
    return [Stage("mir", one) for one in bodies] if len(bodies) == 1 else []
