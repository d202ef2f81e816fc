"""Read how to call a snippet's entries, from the debug info of its reference build."""

import shutil

from hot_anvil.core.bench import Snippet
from hot_anvil.core.errors import RequestError
from hot_anvil.core.grid import Build
from hot_anvil.core.invocation import OBJECT
from hot_anvil.core.signature import Parameter, Signature, Type
from hot_anvil.core.toolchain import Family, Toolchain
from hot_anvil.system.compile import files_read, run_compiler, shadows
from hot_anvil.system.files import digest, read_json, write_json
from hot_anvil.system.jobs import Job, snippet_jobs
from hot_anvil.system.store import Store


def read_interface(
    snippet: Snippet, build: Build, chain: Toolchain, family: Family, store: Store
) -> tuple[Signature, ...]:
    """Return the signatures of all functions of the snippet that others can call.

    The compile that gives them is never run nor shown; ``build`` is the
    reference's. Raises RequestError when it fails.
    """
    found: list[Signature] = []
    for job in snippet_jobs(snippet, build, chain, family, store.root):
        if job.language in ("assembly", "cuda"):
            continue  # they carry no types, or are not called as functions are
        found += _signatures(job._replace(key=digest("interface", job.key)), store)
    return tuple(found)


def _signatures(job: Job, store: Store) -> tuple[Signature, ...]:
    name = store.lookup(job.key)
    plain = read_json(store.artefact(name) / "signatures.json") if name else None
    if isinstance(plain, list):
        return tuple(_from_plain(row) for row in plain)
    work = store.scratch()
    try:
        said = run_compiler(job, store, work, OBJECT, "code.o", job.family.variable_flags)
        if said.failed:
            raise RequestError(
                f"{job.source} does not compile under the reference build {job.build.name}, so "
                "its parameters cannot be read; see 'hot-anvil compile' for the errors."
            )
        from hot_anvil.core.signature import read_signatures
        from hot_anvil.system.image import link_alone

        # Where relocations of debug info cannot be read, linking resolves them.
        readable = "code.o" if job.toolchain.isa in ("x86", "aarch64") else ""
        readable = readable or link_alone(job.toolchain, work, "code.o") or "code.o"
        signatures = read_signatures((work / readable).read_bytes())
        read = files_read(work, job, store.root)
        for file in work.glob("*.[oe]*"):
            file.unlink()
        write_json(work / "signatures.json", signatures)
        made = store.name_for(job.key, read)
        store.keep(work, made)
        store.remember(job.key, read, shadows(job, read, store.root), made)
        return signatures
    finally:
        shutil.rmtree(work, ignore_errors=True)


def _from_plain(row: list[object]) -> Signature:
    name, symbol, returns, parameters, file, line = row
    assert isinstance(parameters, list)
    made = tuple(Parameter(p[0], _type(p[1])) for p in parameters)
    return Signature(str(name), str(symbol), _type(returns), made, str(file), int(str(line)))


def _type(row: object) -> Type:
    assert isinstance(row, list)
    kind, size, name, const, to = row
    return Type(kind, size, name, const, _type(to) if to else None)
