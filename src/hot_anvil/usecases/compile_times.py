"""The workspace's timing of compilers, where a choice rests on it."""

import random
import time
from collections.abc import Collection, Sequence
from pathlib import Path

from hot_anvil.core.build.records import Built
from hot_anvil.core.config.records import language_of
from hot_anvil.core.measure.compile_times import CompileTime, compile_time, once
from hot_anvil.system.process.running import run
from hot_anvil.system.store.files import digest
from hot_anvil.workspace import Workspace

RUNS = 5
_PATIENCE = 20.0  # seconds that all of it may take; else the one time of the build stands


def time_compiles(
    workspace: Workspace, builds: Sequence[Built], wanted: Collection[str]
) -> dict[str, CompileTime]:
    """Return how long each build takes to compile; those of ``wanted`` run several times.

    One at a time, in random order, round by round. The same artefacts are not timed twice.
    """
    out = {built.build.name: once(built.seconds) for built in builds}
    own = [built for built in builds if built.build.name in wanted]
    if sum(built.seconds for built in own) * RUNS > _PATIENCE:
        return out
    keys = {b.build.name: digest("compile times", *(u.artefact for u in b.units)) for b in own}

    def rounds(_: Path) -> dict[str, list[float]]:
        took: dict[str, list[float]] = {built.build.name: [] for built in own}
        for number in range(RUNS):
            workspace.progress("timing compilers", number, RUNS)
            for built in random.sample(own, len(own)):
                seconds = _compile(workspace, built)
                if seconds is not None:
                    took[built.build.name].append(seconds)
        return took

    if own:
        took = workspace.store.derive(digest(*sorted(keys.values())), rounds)
        out |= {name: compile_time(seconds) for name, seconds in took.items() if seconds}
    return out


def _compile(workspace: Workspace, built: Built) -> float | None:
    """Return the seconds that the compiler takes for a build's sources, None where it fails."""
    chain = workspace.toolchain(built.build)
    if chain.machines:  # it is not here
        return None
    with workspace.store.workplace() as scratch:
        took = 0.0
        for unit in built.units:
            language = language_of(unit.source)
            own = built.snippet.source_flags.get(unit.source, ())
            what = ["--crate-type=lib", "--emit=obj"] if language == "rust" else ["-c"]
            flags = [*built.build.flags, *own, *chain.flags, *what]
            argv = [chain.drivers[language].path, *flags, unit.source]
            started = time.perf_counter()
            if run([*argv, "-o", str(scratch / "made.o")], workspace.bench.root).failed:
                return None
            took += time.perf_counter() - started
    return took
