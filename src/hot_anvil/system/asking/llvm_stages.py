"""The forms of LLVM compilers: a stream of the module after each pass, of which one is read."""

from collections.abc import Sequence
from pathlib import Path

from hot_anvil.core.names import visible
from hot_anvil.core.stages.dumps import Reader
from hot_anvil.core.stages.records import Stage
from hot_anvil.core.toolchain.invocation import OBJECT
from hot_anvil.errors import RequestError
from hot_anvil.system.build.jobs import Job, compiler_argv
from hot_anvil.system.process.scope import current_scope
from hot_anvil.system.process.streaming import run_lines
from hot_anvil.system.store.store import Store


def function_stages(job: Job, symbol: str, store: Store, work: Path) -> list[Stage]:
    """Return what each pass left of a function; passes that changed nothing are only named.

    The object that this makes is ``code.o`` in ``work``.
    """
    asked = ("-print-changed", "-print-before-changed", "-print-module-scope",
             f"-filter-print-funcs={symbol}")  # fmt: skip
    if job.family.style == "rustc":
        more: Sequence[str] = [f"-Cllvm-args={one}" for one in asked]
    else:
        more = [*(word for one in asked for word in ("-mllvm", one)), "-w",
                "-fno-discard-value-names"]  # fmt: skip
    argv = compiler_argv(job, OBJECT, str(work / "code.o"), str(work / "rule"), more)
    reader = Reader(symbol)
    limits = current_scope().limits
    code = run_lines(argv, store.root, reader.take, limits.seconds, limits.memory)
    if code:
        raise RequestError(
            f"{job.build.name} does not compile {visible(job.source)} when it is asked for its "
            "forms, or takes longer than --job-seconds or more than --job-memory."
        )
    return reader.stages
