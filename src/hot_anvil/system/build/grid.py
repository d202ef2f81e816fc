"""Compile all builds of all snippets, side by side over the cores."""

from collections.abc import Callable, Sequence

from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import COMPILED, Built, Unit
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.system.build.jobs import Job, find_unit, links_late, snippet_jobs
from hot_anvil.system.process.progress import Progress, no_progress
from hot_anvil.system.store.store import Store


def compile_grid(
    pairs: Sequence[tuple[Snippet, Build]],
    toolchains: Sequence[Toolchain],
    families: Sequence[Family],
    store: Store,
    progress: Progress = no_progress,
    spread: "Spread | None" = None,
) -> tuple[Built, ...]:
    """Return each snippet under each build of the pairs, in that order.

    What the store has is taken from it; the rest is compiled in parallel. A
    source that does not compile refuses its own build only. ``spread`` may compile elsewhere.
    """
    jobs = plan_jobs(pairs, toolchains, families, store.root)
    # What only another machine's compiler made may be stale: its headers are there.
    units = {
        key: None if job.toolchain.machines else find_unit(job, store) for key, job in jobs.items()
    }
    missing = [key for key, unit in units.items() if unit is None]
    # Snippets may share a source: it is compiled once.
    single = {jobs[key].key: jobs[key] for key in missing}
    wanted = list(single.values())
    if not missing:
        made = []
    elif spread:
        made = spread(wanted, store, progress, _compile_all)
    else:
        made = _compile_all(wanted, store, progress)
    by_job = dict(zip(single, made, strict=True))
    fresh = {key: by_job[jobs[key].key] for key in missing}
    done: dict[Key, Unit] = {k: u for k, u in units.items() if u is not None} | fresh
    out = []
    keys_of: dict[tuple[str, str], list[Key]] = {}
    for key in jobs:
        keys_of.setdefault((key[0], key[2]), []).append(key)
    for snippet, build in pairs:
        keys = keys_of[snippet.name, build.name]
        own = tuple(done[key] for key in keys)
        out.append(Built(snippet, build, own, any(key in fresh for key in keys)))
    return _with_whole(out, toolchains, families, store, progress)


Key = tuple[str, str, str]  # snippet, source, build
CompileHere = Callable[[Sequence[Job], Store, Progress], list[Unit]]
Spread = Callable[[Sequence[Job], Store, Progress, CompileHere], list[Unit]]


def plan_jobs(
    pairs: Sequence[tuple[Snippet, Build]],
    toolchains: Sequence[Toolchain],
    families: Sequence[Family],
    root: str,
) -> dict[Key, Job]:
    """Return the jobs of the snippets under the builds.

    A source whose language a build's toolchain does not know has no job there.
    """
    by_name = {chain.name: chain for chain in toolchains}
    family_of = {family.name: family for family in families}
    jobs: dict[Key, Job] = {}
    for snippet, build in pairs:
        chain = by_name[build.toolchain]
        for job in snippet_jobs(snippet, build, chain, family_of[chain.family], root):
            jobs[snippet.name, job.source, build.name] = job
    return jobs


def _with_whole(
    builds: Sequence[Built],
    toolchains: Sequence[Toolchain],
    families: Sequence[Family],
    store: Store,
    progress: Progress,
) -> tuple[Built, ...]:
    """Link what was compiled for link-time optimisation, where the code is made only then."""
    late = sum(links_late(b.build.flags) and b.status == COMPILED for b in builds)
    if not late:
        return tuple(builds)
    from hot_anvil.system.build.link_time import link_whole

    out = []
    linked = 0
    for built in builds:
        if links_late(built.build.flags) and built.status == COMPILED:
            progress("linking", linked, late)
            linked += 1
            built = built._replace(whole=link_whole(built, toolchains, families, store))
        out.append(built)
    return tuple(out)


def _compile_all(jobs: Sequence[Job], store: Store, progress: Progress) -> list[Unit]:
    import gc

    from hot_anvil.system.build.compiling import compile_unit
    from hot_anvil.system.process.scope import current_scope
    from hot_anvil.system.process.threads import finished, thread_pool

    store.sweep()
    gc.set_threshold(200_000)  # reading makes many records at once, and none in circles
    progress("compiling", 0, len(jobs))
    with thread_pool(current_scope().limits.at_once) as pool:
        waiting = {pool.submit(compile_unit, job, store): job for job in jobs}
        for done, future in enumerate(finished(waiting), 1):
            future.result()
            progress("compiling", done, len(jobs))
        return [future.result() for future in waiting]
