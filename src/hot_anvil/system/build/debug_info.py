"""What only full debug info tells, from a compile that is never run nor shown."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from hot_anvil.core.toolchain.invocation import OBJECT
from hot_anvil.core.toolchain.messages import read_diagnostics
from hot_anvil.errors import RequestError
from hot_anvil.system.build.compiling import files_read, run_compiler, shadows
from hot_anvil.system.build.jobs import Job
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest, read_json, write_json
from hot_anvil.system.store.store import Store


def from_debug_info(
    job: Job,
    store: Store,
    purpose: str,
    read: Callable[[bytes, bytes], Any],
    more_flags: Sequence[str] = (),
) -> Any:
    """Return plain data that ``read`` makes of a job's image and object with debug info.

    What it returned is kept under ``purpose``, which ``more_flags`` belong to.
    Raises RequestError when the job does not compile.
    """
    job = job._replace(key=digest(purpose, job.key))
    name = store.lookup(job.key)
    plain = read_json(store.artefact(name).debug_info) if name else None
    if plain is not None:
        return plain
    with store.workplace() as work:
        flags = (*job.family.variable_flags, *more_flags)
        said = run_compiler(job, store, work, OBJECT, "code.o", flags)
        if said.failed:
            told = read_diagnostics(said.stderr, job.diagnostics)
            first = next((one for one in told if one.severity == "error"), None)
            why = f": {first.file}:{first.line}: {first.message}." if first else "."
            raise RequestError(
                f"{job.source} does not compile under {job.build.name} with debug info, so its "
                f"variables cannot be read{why}"
            )
        from hot_anvil.system.build.reading_back import link_alone

        linked = link_alone(job.toolchain, work, "code.o") or "code.o"
        made = Artefact(work).object.read_bytes()
        plain = read((work / linked).read_bytes(), made)
        _keep(job, store, work, plain)
        return read_json(store.artefact(store.lookup(job.key) or "").debug_info) or plain


def _keep(job: Job, store: Store, work: Path, plain: Any) -> None:
    read = files_read(work, job, store.root)
    for file in work.glob("*.[oe]*"):
        file.unlink()
    write_json(Artefact(work).debug_info, plain)
    made = store.name_for(job.key, read)
    store.keep(work, made)
    store.remember(job.key, read, shadows(job, read, store.root), made)
