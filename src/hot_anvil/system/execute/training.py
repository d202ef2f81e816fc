"""Run an instrumented program on input sets, and keep the counts that it leaves behind."""

import shutil
from collections.abc import Sequence
from pathlib import Path

from hot_anvil.core.toolchain.records import Profiling, Toolchain
from hot_anvil.system.execute.calls import PreparedInputs, memory_limit
from hot_anvil.system.execute.workers import Worker, WorkerEnded
from hot_anvil.system.process.running import run
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.store import Store

_SECONDS_TO_LEAVE = 20.0
_CALLS = 3  # of each input set
# Where a compiler's library leaves its counts.
_VARIABLES = {"GCOV_PREFIX": "{folder}/counts", "LLVM_PROFILE_FILE": "{folder}/counts/run.profraw"}


def train(
    path: str,
    ready: Sequence[PreparedInputs],
    profiling: Profiling,
    chain: Toolchain,
    store: Store,
) -> tuple[str, str]:
    """Return the folder of the counts, named by what they hold, and why there is none."""
    try:
        with Worker(path, memory=memory_limit(path), variables=_VARIABLES) as worker:
            Path(worker.folder, "counts").mkdir(exist_ok=True)
            for one in ready:
                list(worker.answers(list(one.requests[0]) * _CALLS, one.seconds))
            worker.finish(_SECONDS_TO_LEAVE)
            return _keep(Path(worker.folder, "counts"), profiling, chain, store)
    except WorkerEnded as ended:
        return "", f"the instrumented program {ended.kind}: {ended.why}"


def _keep(counts: Path, profiling: Profiling, chain: Toolchain, store: Store) -> tuple[str, str]:
    if profiling.merge and any(counts.iterdir()):
        tool = shutil.which(f"{profiling.merge}-{chain.major}") or shutil.which(profiling.merge)
        if tool is None:
            return "", f"{profiling.merge} is missing (on Debian: apt install llvm)"
        raw = [str(file) for file in counts.glob("*.profraw")]
        said = run([tool, "merge", *raw, "-o", str(counts / "counts.profdata")], counts)
        if said.failed:
            return "", f"{profiling.merge}: {said.stderr.strip().split(chr(10))[-1]}"
        for file in raw:
            Path(file).unlink()
    files = sorted(file for file in counts.rglob("*") if file.is_file())
    if not files:
        return "", "the instrumented program left no counts behind"
    named = ((str(file.relative_to(counts)), file.read_bytes()) for file in files)
    goal = store.folder / "profiles" / digest(*(part for pair in named for part in pair))
    if not goal.is_dir():
        goal.parent.mkdir(parents=True, exist_ok=True)
        with store.workplace() as work:
            shutil.copytree(counts, work / "counts")
            (work / "counts").rename(goal)
    return str(goal), ""
