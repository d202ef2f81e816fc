"""Compile once more without our debug flag, and compare the code."""

from pathlib import Path

from hot_anvil.core.arch import has_objects
from hot_anvil.core.asm.reading import read_text
from hot_anvil.core.build.records import Built, Unit
from hot_anvil.core.proof.debug_flag import functions_that_differ, texts_that_differ
from hot_anvil.core.proof.records import BROKEN, PROVED, UNKNOWN, DebugProof
from hot_anvil.core.toolchain.invocation import OBJECT, TEXT
from hot_anvil.system.build.jobs import Job, compiler_argv, links_late, load_code
from hot_anvil.system.process.running import run
from hot_anvil.system.process.scope import current_scope
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store


def prove_debug(built: Built, jobs: dict[str, Job], store: Store) -> DebugProof:
    """Compare every unit of a build with one compiled without debug lines.

    ``jobs`` gives the job of each source.
    """
    if links_late(built.build.flags):
        return DebugProof(UNKNOWN, "its code is made while linking", ())
    changed: list[str] = []
    for unit in built.units:
        job = jobs[unit.source]
        if job.language == "assembly":
            continue  # it is the code
        found = _changed(unit, job, store)
        if found is None:
            return DebugProof(UNKNOWN, f"{unit.source} does not compile without debug lines", ())
        changed += found
    flag = " ".join(next(iter(jobs.values())).family.debug_flags)
    why = f"{flag} changes the code" if changed else ""
    return DebugProof(BROKEN if changed else PROVED, why, tuple(changed))


def _changed(unit: Unit, job: Job, store: Store) -> list[str] | None:
    def find(work: Path) -> list[str] | None:
        isa = job.toolchain.isa
        is_text = not has_objects(isa)
        output = work / ("code.s" if is_text else "code.o")
        make = TEXT if is_text else OBJECT
        argv = compiler_argv(job._replace(plain=True), make, str(output), "")
        if run(
            argv, store.root, current_scope().limits.seconds, memory=current_scope().limits.memory
        ).failed:
            return None
        if is_text:
            bare = read_text(output.read_text(errors="surrogateescape"), store.root, isa)
            return list(texts_that_differ(load_code(unit, store), bare))
        own = (store.artefact(unit.artefact).object).read_bytes()
        return list(functions_that_differ(own, output.read_bytes()))

    found: list[str] | None = store.derive(
        digest(f"without debug {stage_digest('code')}", unit.artefact), find
    )
    return found
