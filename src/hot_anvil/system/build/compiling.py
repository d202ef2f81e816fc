"""Compile one source under one build into one artefact, and prove what it shows."""

import os
import re
import shutil
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from hot_anvil.core.arch import has_objects, syntax_of
from hot_anvil.core.asm.calls import callee
from hot_anvil.core.asm.reading import read_text
from hot_anvil.core.binary.elf import ObjectFacts, object_facts
from hot_anvil.core.build.records import COMPILED, REFUSED, Unit, refused_unit
from hot_anvil.core.code.records import Code, with_plain_names
from hot_anvil.core.code.stored import to_plain
from hot_anvil.core.names import fortran_title
from hot_anvil.core.proof.records import UNKNOWN, Proof
from hot_anvil.core.toolchain.diagnostics import Diagnostic
from hot_anvil.core.toolchain.invocation import OBJECT, TEXT
from hot_anvil.core.toolchain.messages import read_dependencies, read_diagnostics
from hot_anvil.core.toolchain.remarks import DoneRemark, read_remarks
from hot_anvil.errors import ToolError
from hot_anvil.system.build.demangling import demangled
from hot_anvil.system.build.jobs import Job, compiler_argv, links_late
from hot_anvil.system.build.proving import no_object, prove_unit
from hot_anvil.system.build.reading_back import read_object
from hot_anvil.system.process.running import OUTPUT_LIMIT, Outcome, run, run_in_scope
from hot_anvil.system.process.scope import current_scope
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import read_source, write_json
from hot_anvil.system.store.store import Store
from hot_anvil.system.toolchain.packages import missing_package

_LACKING = re.compile(
    r"[Nn]o such file|file not found|not find (?:crate|file)|couldn't read"
    r"|[Cc](?:annot|ould not) open"
)


def compile_unit(job: Job, store: Store) -> Unit:
    """Compile the job's source, prove the code shown, and keep it in the store.

    A source that does not compile gives a refused unit, never an exception.
    """
    if not Path(store.root, job.source).is_file():
        why = f"{job.source}: there is no such file in {store.root}"
        return refused_unit(job.source, why, 0.0, ())
    for _ in range(3):
        work = store.scratch()
        began = work.stat().st_mtime_ns
        try:
            unit, read = _compile(job, store, work)
        except ToolError as error:
            shutil.rmtree(work, ignore_errors=True)
            return refused_unit(job.source, str(error), 0.0, ())
        except BaseException:
            shutil.rmtree(work, ignore_errors=True)
            raise
        if _newest(store.root, read) < began:
            break
        shutil.rmtree(work, ignore_errors=True)  # a file was edited meanwhile: once more
    else:
        why = "what it reads changes all the time while it is compiled"
        return refused_unit(job.source, why, unit.seconds, unit.diagnostics)
    store.forget_digests()
    # Only what the source is to blame for is kept: a full disk or a killed compiler is not, nor
    # what lacks a file, which may come from anywhere at any time.
    lacks = any(_LACKING.search(d.message) for d in unit.diagnostics)
    blamed = any(d.severity == "error" and d.line for d in unit.diagnostics) and not lacks
    if not read or (unit.status == REFUSED and not blamed):
        shutil.rmtree(work, ignore_errors=True)
        return unit
    name = store.name_for(job.key, read)
    write_json(Artefact(work).unit, unit)
    if unit.status == COMPILED:
        own = [path for path in read if not Path(path).is_absolute()]
        write_json(Artefact(work).sources, _texts(store.root, own))
    store.keep(work, name)
    store.remember(job.key, read, shadows(job, read, store.root), name)
    return unit._replace(artefact=name)


def run_compiler(
    job: Job,
    store: Store,
    work: Path,
    make: str,
    output: str,
    more: Sequence[str] = (),
    limit: int = OUTPUT_LIMIT,
) -> Outcome:
    """Run the job's compiler to make ``output`` in ``work``, noting the files it reads."""
    argv = compiler_argv(job, make, str(work / output), str(work / "rule"), more)
    return run_in_scope(argv, store.root, limit=limit)


def _compile(job: Job, store: Store, work: Path) -> tuple[Unit, list[str]]:
    lacking = missing_package(job.flags)
    if lacking:
        return refused_unit(job.source, lacking, 0.0, ()), []
    if job.language == "assembly" or links_late(job.flags):
        return _compile_object(job, store, work)
    both = (f"--emit=obj={work / 'code.o'}",) if job.family.style == "rustc" else ()
    asks = job.language != "cuda" and job.toolchain.major >= job.family.remarks_since
    asked = job.family.remark_flags if asks else ()
    told = [flag.replace("{file}", str(work / "remarks")) for flag in asked]
    said = run_compiler(job, store, work, TEXT, "code.s", (*both, *told))
    said = _keep_remarks(said, work)
    complaints = read_diagnostics(said.stderr, job.diagnostics)
    read = files_read(work, job, store.root)
    seconds = said.seconds
    if said.failed or not Artefact(work).text.is_file():
        return refused_unit(job.source, _why(said, complaints), seconds, complaints), read
    text = Artefact(work).text.read_text(errors="surrogateescape")
    isa = job.toolchain.isa
    if not has_objects(isa):
        code = read_text(text, job.root_in(store.root), isa)
        proof = Proof(UNKNOWN, no_object(isa), code.total, 0)
        return _keep(job, work, seconds, complaints, None, proof, code), read
    if not both:
        made = _make_object(job, store, work)
        if made.failed:
            complaints += read_diagnostics(made.stderr, "text")
            why = f"assembling: {_why(made, complaints)}"
            return refused_unit(job.source, why, seconds, complaints), read
    if not Artefact(work).object.is_file():
        why = "assembling: the compiler made no object"
        return refused_unit(job.source, why, seconds, complaints), read
    code = read_text(text, job.root_in(store.root), isa)
    facts = object_facts(Artefact(work).object.read_bytes())
    proof, code = prove_unit(job, work, text, code, facts)
    return _keep(job, work, seconds, complaints, facts, proof, code), read


def _keep_remarks(said: Outcome, work: Path) -> Outcome:
    """Put what the compiler says of its own doing apart from what it complains about."""
    rows: list[DoneRemark] = []
    with suppress(OSError):
        rows += read_remarks((work / "remarks").read_text(errors="replace"), "gcc")
        (work / "remarks").unlink()
    if ": remark: " in said.stderr:
        rows += read_remarks(said.stderr, "clang")
        lines = said.stderr.split("\n")
        kept = [line for line in lines if ": remark: " not in line]
        said = said._replace(stderr="\n".join(kept))
    if rows:
        write_json(Artefact(work).remarks, rows)
    return said


def _compile_object(job: Job, store: Store, work: Path) -> tuple[Unit, list[str]]:
    """Compile where there is no text to read: from assembly, or for the linker to finish."""
    late = links_late(job.flags)
    lines = () if late or job.language != "assembly" else ("-g",)
    said = run_compiler(job, store, work, OBJECT, "code.o", lines)
    complaints = read_diagnostics(said.stderr, job.diagnostics)
    read = files_read(work, job, store.root)
    if said.failed or not Artefact(work).object.is_file():
        return refused_unit(job.source, _why(said, complaints), said.seconds, complaints), read
    if late:
        proof, code = (
            Proof(UNKNOWN, "its code is made while linking", 0, 0),
            Code((), (), job.toolchain.isa),
        )
        return _keep(job, work, said.seconds, complaints, None, proof, code), read
    code, proof = read_object(job.toolchain, work, "code.o", job.root_in(store.root))
    facts = object_facts(Artefact(work).object.read_bytes())
    return _keep(job, work, said.seconds, complaints, facts, proof, code), read


def _keep(
    job: Job,
    work: Path,
    seconds: float,
    complaints: tuple[Diagnostic, ...],
    facts: ObjectFacts | None,
    proof: Proof,
    code: Code,
) -> Unit:
    for module in work.glob("*.mod"):  # what Fortran leaves for others
        module.unlink()
    code = with_titles(code, work, job.language)
    write_json(Artefact(work).code, to_plain(code))
    code_bytes = facts.code_bytes if facts else None
    sizes = facts.sizes if facts else {}
    return Unit(job.source, "", COMPILED, "", seconds, complaints, code_bytes, sizes, proof)


def _make_object(job: Job, store: Store, work: Path) -> Outcome:
    """Make ``code.o``, the object that runs, and the assembler's listing of the text."""
    passed = [flag for flag in job.flags if flag.startswith(("-m", "-Wa,", "-B"))]
    if job.family.text_is_object:
        fixed = [*job.toolchain.flags, "-c", "-Wa,-aln=code.lst", "-o", "code.o", "code.s"]
        return run([job.driver.path, *passed, *fixed], work, current_scope().limits.seconds)
    argv = compiler_argv(job, OBJECT, str(Artefact(work).object), "")
    return run_in_scope(argv, store.root)


def with_titles(code: Code, work: Path, language: str) -> Code:
    """Return the code with the names that symbols stand for in the source."""
    owners = list(dict.fromkeys(f.owner for f in code.functions))
    if language == "fortran":
        return code._replace(titles={n: t for n in owners if (t := fortran_title(n)) != n})
    isa = syntax_of(code.isa)
    rows = [i for f in code.functions for i in f.instructions]
    called = [callee(i, isa) for i in rows]
    inlined = [name for i in rows for name in (i.function, *(s.function for s in i.chain))]
    titles = demangled((*owners, *called, *inlined), work)
    made = code._replace(titles=titles)
    return made if not titles or has_objects(code.isa) else with_plain_names(made)


def _why(said: Outcome, complaints: Sequence[Diagnostic]) -> str:
    if said.timed_out:
        return f"the compiler was stopped after {said.seconds:.0f} s"
    for complaint in complaints:
        if complaint.severity == "error":
            place = f"{complaint.file}:{complaint.line}: " if complaint.line else ""
            return f"{place}{complaint.message}"
    last = said.stderr.strip().split("\n")[-1].strip()
    return f"the compiler ended with {said.ending}" + (f": {last}" if last else " without a word")


def _texts(root: str, files: Sequence[str]) -> dict[str, str]:
    """Return the texts of files, to tell later what an edit changed."""
    out = {}
    for file in files:
        with suppress(OSError):
            out[file] = read_source(Path(root, file))
    return out


def files_read(work: Path, job: Job, root: str) -> list[str]:
    """Return the files that the compiler read for what it made in ``work``."""
    try:
        rule = (work / "rule").read_text(errors="surrogateescape")
        return list(read_dependencies(rule))
    except OSError:
        return _files_named(job.source, root, [])


_INCLUDES = re.compile(
    r"""^\s*(?:include\s+|\.include\s+|\.incbin\s+)(['"])(.+?)\1""", re.MULTILINE | re.IGNORECASE
)


def _files_named(source: str, root: str, seen: list[str]) -> list[str]:
    """Return a source and what it includes, for compilers that do not tell what they read."""
    try:
        text = Path(root, source).read_text(errors="surrogateescape")
    except OSError:
        return seen
    seen.append(source)
    folder = os.path.dirname(source)  # noqa: PTH120
    for found in _INCLUDES.finditer(text):
        for path in (os.path.join(folder, found[2]), found[2]):  # noqa: PTH118
            if path not in seen:
                _files_named(path, root, seen)
    return seen


def _newest(root: str, files: Sequence[str]) -> int:
    """Return the latest time of change of the files, in nanoseconds since the epoch."""
    times = [0]
    for file in files:
        try:
            times.append(Path(root, file).stat().st_mtime_ns)
        except OSError:
            continue
    return max(times)


def shadows(job: Job, read: Sequence[str], root: str) -> set[str]:
    """Return paths where a new file would be found before one that was read."""
    folders = {os.path.dirname(job.source)}  # noqa: PTH120
    flags = job.flags
    for index, flag in enumerate(flags):
        for option in ("-I", "-iquote", "-isystem"):
            if flag == option and index + 1 < len(flags):
                folders.add(flags[index + 1])
            elif flag.startswith(option):
                folders.add(flag[len(option) :])
    absent = set()
    for path in read:
        parts = path.split("/")
        for length in (1, 2):
            for folder in folders:
                candidate = os.path.join(folder, *parts[-length:])  # noqa: PTH118
                if not os.path.lexists(os.path.join(root, candidate)):  # noqa: PTH118
                    absent.add(candidate)
    return absent
