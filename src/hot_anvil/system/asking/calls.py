"""Ask a compiler what a C++ source calls, before anything is optimised."""

import json
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import Unit
from hot_anvil.core.codec import read
from hot_anvil.core.stages import gimple, llvm
from hot_anvil.core.stages.called import Caller, callers, with_elided
from hot_anvil.core.stages.records import Body
from hot_anvil.core.toolchain.invocation import OBJECT, TEXT
from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.errors import RequestError
from hot_anvil.system.asking.proof import check_unchanged
from hot_anvil.system.build.demangling import demangled
from hot_anvil.system.build.jobs import Job, compiler_argv, make_job
from hot_anvil.system.process.running import run_in_scope
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store

# Flags that say what a source means, not what is made of it.
_MEANING = (
    "-std=", "-D", "-U", "-I", "-isystem", "-include", "-iquote", "-fno-exceptions", "-fno-rtti",
    "-fno-elide-constructors", "-fchar8_t", "-fsigned-char", "-funsigned-char",
)  # fmt: skip
_TAKES_NEXT = ("-D", "-U", "-I", "-isystem", "-include", "-iquote")
_KEEP = "-fno-elide-constructors"
_OLDER = "-std=c++14"


class Spoken(NamedTuple):
    """What a source calls, and who says so."""

    callers: tuple[Caller, ...]
    reader: str  # the toolchain whose form it is read from
    form: str  # "LLVM IR", or "GIMPLE", in which overloads are not told apart
    unknown: tuple[str, ...]  # what could not be found out of elided copies


def reader_of(job: Job, chains: Sequence[Toolchain]) -> Toolchain:
    """Return the toolchain to ask: the build's own if it is LLVM's, else the newest of those."""
    if job.family.name == "clang":
        return job.toolchain
    target = job.toolchain.target.partition("-")[0]
    fitting = [
        c for c in chains
        if c.family == "clang" and "c++" in c.drivers and c.target.partition("-")[0] == target
        and "@" not in c.name
    ]  # fmt: skip
    return max(fitting, key=lambda c: c.major, default=job.toolchain)


def ask_calls(
    job: Job,
    unit: Unit,
    chains: Sequence[Toolchain],
    family: Callable[[Toolchain], Family],
    store: Store,
) -> Spoken:
    """Return what a unit's source calls, function by function, asked once.

    Raises RequestError where no compiler takes the source without its optimising flags.
    """
    chain = reader_of(job, chains)
    flags = meaning(job.flags)
    asked = make_job(job.source, Build(chain.name, "", flags), chain, family(chain), store.root)

    def make(work: Path) -> Any:
        made = _read(asked, (), store, work)
        if made is None:
            raise RequestError(
                f"{job.source}: {chain.name} does not compile it with "
                f"{' '.join(flags) or 'no flags'}, so what it calls cannot be read."
            )
        kept = _read(asked, (_KEEP,), store, work)
        older = _read(asked, (_OLDER, _KEEP), store, work)
        check_unchanged(job, unit, store)
        unknown = [
            name
            for name, found in (("that are allowed to go", kept), ("that have to go", older))
            if found is None
        ]
        return [with_elided(made, kept, older), unknown]

    key = digest(f"calls {stage_digest('stages')}", json.dumps([unit.artefact, asked.key]))
    rows, unknown = store.derive(key, make)
    form = llvm.FORM if chain.family == "clang" else gimple.FORM
    return Spoken(read(tuple[Caller, ...], rows), chain.name, form, tuple(unknown))


def meaning(flags: Sequence[str]) -> tuple[str, ...]:
    """Return those of a build's flags that say what a source means."""
    out: list[str] = []
    takes = False
    for flag in flags:
        if takes or flag.startswith(_MEANING):
            out.append(flag)
        takes = flag in _TAKES_NEXT and not takes
    return tuple(out)


def _read(job: Job, more: Sequence[str], store: Store, work: Path) -> tuple[Caller, ...] | None:
    """Return a source's functions with their calls, None where it does not compile so."""
    bodies = _llvm(job, more, store, work) if job.family.name == "clang" else (
        _gimple(job, more, store, work)
    )  # fmt: skip
    if bodies is None:
        return None
    symbols = {
        name
        for body in bodies
        for name in (body.function, *(t.partition(" ")[2] for s in body.statements
                                      for t in s.traits if t.startswith("call ")))
    }  # fmt: skip
    titles = demangled(sorted(s for s in symbols if s.startswith("_Z")), work)
    return callers(bodies, titles)


def _llvm(job: Job, more: Sequence[str], store: Store, work: Path) -> list[Body] | None:
    goal = work / "form.ll"
    fixed = ["-O0", "-emit-llvm", "-fno-discard-value-names", "-w", *more]
    argv = compiler_argv(job, TEXT, str(goal), "", fixed)
    if run_in_scope(argv, store.root).failed:
        return None
    with goal.open(errors="surrogateescape") as lines:
        return list(llvm.read_functions(lines))


def _gimple(job: Job, more: Sequence[str], store: Store, work: Path) -> list[Body] | None:
    goal = work / "form.gimple"
    fixed = ["-O0", "-w", f"-fdump-tree-lower-lineno={goal}", *more]
    argv = compiler_argv(job, OBJECT, str(work / "form.o"), "", fixed)
    if run_in_scope(argv, store.root).failed or not goal.exists():
        return None
    with goal.open(errors="surrogateescape") as lines:
        return list(gimple.read_functions(lines))
