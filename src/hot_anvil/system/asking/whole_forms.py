"""One form of a whole source: kept packed in the store, read as a stream."""

import gzip
import shutil
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core.build.records import Unit
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.stages import gimple, llvm, rtl, rust_mir
from hot_anvil.core.stages.records import Body
from hot_anvil.core.toolchain.invocation import TEXT
from hot_anvil.errors import RequestError
from hot_anvil.system.asking import gnu_stages
from hot_anvil.system.asking.proof import changed_code, check_unchanged
from hot_anvil.system.build.jobs import Job, compiler_argv
from hot_anvil.system.process.running import run_in_scope
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store

PREPROCESSED, SYNTAX, START, END, MIR = "preprocessed", "syntax", "start", "end", "mir"
TEXTS = (PREPROCESSED, SYNTAX)  # forms that are shown as they are
# Route -> form -> flags that make it, and whether it comes on standard output.
_FLAGS: Mapping[str, Mapping[str, tuple[Sequence[str], bool]]] = {
    "gnu": {PREPROCESSED: (("-E",), False), SYNTAX: (("-fdump-tree-original={out}",), False)},
    "llvm": {
        PREPROCESSED: (("-E",), False),
        SYNTAX: (("-fsyntax-only", "-Xclang", "-ast-dump"), True),
        START: (("-S", "-emit-llvm", "-fno-discard-value-names", "-Xclang",
                 "-disable-llvm-passes"), False),
        END: (("-S", "-emit-llvm", "-fno-discard-value-names"), False),
    },
    "rust": {
        MIR: (("--emit=mir={out}",), False),
        START: (("--emit=llvm-ir={out}", "-Cno-prepopulate-passes"), False),
        END: (("--emit=llvm-ir={out}",), False),
    },
}  # fmt: skip
_READERS: Mapping[str, Callable[[Iterator[str]], Iterator[Body]]] = {
    "t": gimple.read_functions, "r": rtl.read_functions,
    "i": llvm.read_functions, "m": rust_mir.read_functions,
}  # fmt: skip


def forms_of(job: Job) -> tuple[str, ...]:
    """Return the forms of a whole source that a compiler writes, passes aside."""
    assert job.family.records is not None
    return tuple(_FLAGS[job.family.records.stages])


class Form(NamedTuple):
    """A form of a whole source, as the store has it."""

    file: Path  # packed
    letter: str  # of its reader, "" for a text as it is
    code: (
        str  # SAME where asking changed no code, else the functions that differ; "": none was made
    )


def ask_form(job: Job, unit: Unit, name: str, store: Store) -> Form:
    """Return a form of a unit's source, asked once.

    Raises RequestError for a form that the compiler does not write.
    """
    assert job.family.records is not None
    route = job.family.records.stages
    known = _FLAGS[route]
    if name not in known and route != "gnu":
        raise RequestError(
            f"{name}: {job.build.name} shows no such form of a whole source."
            f"{did_you_mean(name, known)} It has: {listed(known)}. What single passes left can be "
            "shown of one function: add --entry."
        )
    key = digest(f"form {stage_digest('stages')}", unit.artefact, name)
    if not store.holds(key):
        with store.workplace() as work:
            letter = _make(job, name, known, store, work)
            check_unchanged(job, unit, store)
            made = work / "code.o"
            code = changed_code(unit, made, store, job.toolchain.isa) if made.exists() else ""
            (work / "told").write_text(f"{letter}\n{code}")
            for left in work.iterdir():
                if left.name not in ("form.gz", "told"):
                    shutil.rmtree(left) if left.is_dir() else left.unlink()
            store.keep(work, key)
    folder = store.artefact(key).folder
    letter, _, code = (folder / "told").read_text().partition("\n")
    return Form(folder / "form.gz", letter, code)


def _make(
    job: Job,
    name: str,
    known: Mapping[str, tuple[Sequence[str], bool]],
    store: Store,
    work: Path,
) -> str:
    """Make ``form.gz`` in ``work``; return the letter of its reader."""
    if name not in known:
        file, letter = gnu_stages.whole_dump(job, store, work, name)
    else:
        flags, spoken = known[name]
        file, letter = work / "form", _letter(name)
        more = [flag.replace("{out}", str(file)) for flag in flags]
        goal = str(work / "code.s") if any("{out}" in flag for flag in flags) else str(file)
        argv = compiler_argv(
            job, TEXT, goal, "", [*more, *(("-w",) if more[0][:2] != "--" else ())]
        )
        if more[0].startswith("--emit"):
            argv = [word for word in argv if not word.startswith("--emit=asm")]
        said = run_in_scope(argv, store.root, file if spoken else None)
        if said.failed or not file.is_file():
            raise RequestError(
                f"{name}: {job.build.name} made no such form of {job.source} ({said.ending})."
            )
    with file.open("rb") as plain, gzip.open(work / "form.gz", "wb", 1) as packed:
        shutil.copyfileobj(plain, packed, 1 << 20)
    return letter


def _letter(name: str) -> str:
    return {START: "i", END: "i", MIR: "m"}.get(name, "")


def read_form(form: Form) -> Iterator[Body]:
    """Give the functions of a form, reading it as they are taken."""
    yield from _READERS[form.letter](read_text(form))


def read_text(form: Form) -> Iterator[str]:
    """Give the lines of a form as they are."""
    with gzip.open(form.file, "rt", encoding="utf-8", errors="surrogateescape") as lines:
        yield from lines
