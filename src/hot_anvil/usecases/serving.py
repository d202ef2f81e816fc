"""What this machine does for another: each request of system/fleet, from laying out to the answer.

Nothing here asks for a bench file or for the person's settings: all that is needed comes with the
request. Compilers are this machine's own, and only where they are the very same.
"""

from typing import Any

from hot_anvil.core.build.records import refused_unit
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.build.compiling import compile_unit, shadows
from hot_anvil.system.build.jobs import find_unit
from hot_anvil.system.fleet.laying_out import laid_out
from hot_anvil.system.fleet.requests import Compile, JobAsked, Made, pack_folder
from hot_anvil.system.fleet.this_machine import content_of
from hot_anvil.system.process.threads import thread_pool
from hot_anvil.system.store.store import Store
from hot_anvil.system.toolchain.finding import find_toolchains


def serve(request: Any) -> Any:
    """Do what a request asks for, and return what it answers."""
    if isinstance(request, Compile):
        return _compile(request)
    from hot_anvil.usecases.serving_runs import serve_run

    return serve_run(request)


def _compile(request: Compile) -> tuple[Made | None, ...]:
    """Compile units; None for one whose very same compiler is not here any more."""
    versions = {asked.job.toolchain.version for asked in request.jobs}
    chains = (c for c in find_toolchains().toolchains if not c.flags and c.version in versions)
    own = {content_of(chain): chain for chain in chains}
    with laid_out(request.given) as store, thread_pool(request.given.limits.at_once) as pool:

        def make(asked: JobAsked) -> Made | None:
            chain = own.get(asked.content)
            return _unit(asked, chain, store, request.given.root) if chain else None

        return tuple(pool.map(make, request.jobs))


def _unit(asked: JobAsked, chain: Toolchain, store: Store, root: str) -> Made:
    job = asked.job
    drivers = {
        language: driver._replace(path=chain.drivers[language].path)
        for language, driver in job.toolchain.drivers.items()
        if language in chain.drivers
    }
    if job.language not in drivers:
        return Made(refused_unit(job.source, f"{chain.name} takes no {job.language}"), (), (), b"")
    job = job._replace(toolchain=job.toolchain._replace(drivers=drivers), called=(store.root, root))
    unit = find_unit(job, store)
    if unit is None:
        unit = compile_unit(job, store)
    if not unit.artefact:
        return Made(unit, (), (), b"")
    read = store.files_of(job.key)
    folder = store.artefact(unit.artefact).folder
    return Made(unit, tuple(read), tuple(shadows(job, read, store.root)), pack_folder(folder))
