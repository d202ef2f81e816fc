"""Compile all builds of all snippets, side by side over the cores."""

import os
from collections.abc import Callable, Sequence

from hot_anvil.core.bench import Snippet
from hot_anvil.core.built import Built, Unit
from hot_anvil.core.grid import Build
from hot_anvil.core.toolchain import Family, Toolchain
from hot_anvil.system.jobs import Job, find_unit, make_job
from hot_anvil.system.store import Store

Progress = Callable[[str, int, int], None]  # what is being done, done so far, of how many


def no_progress(_what: str, _done: int, _total: int) -> None:
    """Show no progress."""


def compile_grid(
    snippets: Sequence[Snippet],
    builds: Sequence[Build],
    toolchains: Sequence[Toolchain],
    families: Sequence[Family],
    store: Store,
    progress: Progress = no_progress,
) -> tuple[Built, ...]:
    """Return every snippet under every build, in that order.

    What the store has is taken from it; the rest is compiled in parallel. A
    source that does not compile refuses its own build only.
    """
    by_name = {chain.name: chain for chain in toolchains}
    family_of = {family.name: family for family in families}
    jobs: dict[tuple[str, str], Job] = {}
    for snippet in snippets:
        for source in snippet.sources:
            for build in builds:
                chain = by_name[build.toolchain]
                jobs[source, build.name] = make_job(
                    source, build, chain, family_of[chain.family], store.root
                )
    units = {key: find_unit(job, store) for key, job in jobs.items()}
    missing = [key for key, unit in units.items() if unit is None]
    made = _compile_all([jobs[key] for key in missing], store, progress) if missing else []
    fresh = dict(zip(missing, made, strict=True))
    done: dict[tuple[str, str], Unit] = {k: u for k, u in units.items() if u is not None} | fresh
    return tuple(
        Built(
            snippet,
            build,
            tuple(done[source, build.name] for source in snippet.sources),
            any((source, build.name) in fresh for source in snippet.sources),
        )
        for snippet in snippets
        for build in builds
    )


def _compile_all(jobs: Sequence[Job], store: Store, progress: Progress) -> list[Unit]:
    from concurrent.futures import ThreadPoolExecutor, as_completed

    from hot_anvil.system.compile import compile_unit
    from hot_anvil.system.process import end_all

    store.sweep()
    progress("compiling", 0, len(jobs))
    pool = ThreadPoolExecutor(os.cpu_count() or 1)
    try:
        waiting = {pool.submit(compile_unit, job, store): job for job in jobs}
        for done, future in enumerate(as_completed(waiting), 1):
            future.result()
            progress("compiling", done, len(jobs))
        return [future.result() for future in waiting]
    except BaseException:
        end_all()  # the threads wait for these
        raise
    finally:
        pool.shutdown(wait=True, cancel_futures=True)
