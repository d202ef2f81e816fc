"""Compile one source under one build into one artefact, and prove what it shows."""

import os
import shlex
import shutil
from collections.abc import Sequence
from pathlib import Path

from hot_anvil.core import code as code_records
from hot_anvil.core.att import read_att
from hot_anvil.core.built import COMPILED, REFUSED, Unit
from hot_anvil.core.diagnostics import Diagnostic
from hot_anvil.core.disassembly import read_assembler_listing, read_objdump
from hot_anvil.core.elf import object_facts
from hot_anvil.core.messages import read_dependencies, read_diagnostics
from hot_anvil.core.proof import BROKEN, UNKNOWN, Proof
from hot_anvil.core.proving import prove_objects, prove_text
from hot_anvil.system.files import write_json
from hot_anvil.system.jobs import Job, compiler_argv
from hot_anvil.system.process import Outcome, run
from hot_anvil.system.store import Store

_SECONDS = 300.0


def compile_unit(job: Job, store: Store) -> Unit:
    """Compile the job's source, prove the code shown, and keep it in the store.

    A source that does not compile gives a refused unit, never an exception.
    """
    if not Path(store.root, job.source).is_file():
        why = f"{job.source}: there is no such file in {store.root}"
        return _refused(job, why, 0.0, ())
    for _ in range(3):
        work = store.scratch()
        began = work.stat().st_mtime_ns
        try:
            unit, read = _compile(job, store, work)
        except BaseException:
            shutil.rmtree(work, ignore_errors=True)
            raise
        if _newest(store.root, read) < began:
            break
        shutil.rmtree(work, ignore_errors=True)  # a file was edited meanwhile: once more
    store.forget_digests()
    # Only what the source is to blame for is kept: a full disk or a killed compiler is not.
    blamed = any(d.severity == "error" and d.line for d in unit.diagnostics)
    if not read or (unit.status == REFUSED and not blamed):
        shutil.rmtree(work, ignore_errors=True)
        return unit
    name = store.name_for(job.key, read)
    write_json(work / "unit.json", unit._asdict())
    store.keep(work, name)
    store.remember(job.key, read, shadows(job, read, store.root), name)
    return unit._replace(artefact=name)


def run_compiler(
    job: Job, store: Store, work: Path, what: str, output: str, more: Sequence[str] = ()
) -> Outcome:
    """Run the job's compiler to make ``output`` in ``work``, noting the files it reads."""
    rule = ["-MD", "-MF", str(work / "rule"), "-MT", "x"]
    argv = [*compiler_argv(job, what, str(work / output), more), *rule]
    return run(argv, store.root, _SECONDS)


def _compile(job: Job, store: Store, work: Path) -> tuple[Unit, list[str]]:
    said = run_compiler(job, store, work, "-S", "code.s")
    complaints = read_diagnostics(said.stderr, job.family.diagnostics)
    read = files_read(work)
    seconds = said.seconds
    if said.failed or not (work / "code.s").is_file():
        return _refused(job, _why(said, complaints), seconds, complaints), read
    made = _make_object(job, store, work)
    if made.failed:
        complaints += read_diagnostics(made.stderr, "text")
        return _refused(job, f"assembling: {_why(made, complaints)}", seconds, complaints), read
    text = (work / "code.s").read_text(errors="surrogateescape")
    code = _with_titles(read_att(text, store.root), work)
    write_json(work / "code.json", code_records.to_plain(code))
    facts = object_facts((work / "code.o").read_bytes())
    unit = Unit(
        job.source,
        "",
        COMPILED,
        "",
        seconds,
        complaints,
        facts.code_bytes,
        facts.sizes,
        _prove(job, work, text, code),
    )
    return unit, read


def _make_object(job: Job, store: Store, work: Path) -> Outcome:
    """Make ``code.o``, the object that runs, and the assembler's listing of the text."""
    passed = [flag for flag in job.build.flags if flag.startswith(("-m", "-Wa,", "-B"))]
    if job.family.text_is_object:
        argv = [job.driver.path, *passed, "-c", "-Wa,-aln=code.lst", "-o", "code.o", "code.s"]
        return run(argv, work, _SECONDS)
    return run(compiler_argv(job, "-c", str(work / "code.o")), store.root, _SECONDS)


def _prove(job: Job, work: Path, text: str, code: code_records.Code) -> Proof:
    for tool in ("objdump", "as"):
        if not shutil.which(tool):
            why = f"{tool} is missing (on Debian: apt install binutils)"
            return Proof(UNKNOWN, why, code.total, 0)
    assembled = "code.o"
    if not job.family.text_is_object:
        assembled = "text.o"
        lines = ["" if s.lstrip().startswith(".addrsig") else s for s in text.split("\n")]
        (work / "plain.s").write_text("\n".join(lines), errors="surrogateescape")
        argv = ["as", "--64", "-aln=code.lst", "-o", assembled, "plain.s"]
        said = run(argv, work, _SECONDS)
        if said.failed:
            return Proof(UNKNOWN, "GNU as does not accept this compiler's text", code.total, 0)
    listed = read_assembler_listing((work / "code.lst").read_text(errors="replace"))
    decoded = read_objdump(_objdump(work, assembled))
    proof = prove_text(code, listed, text, decoded)
    if proof.state != BROKEN and assembled != "code.o":
        why = prove_objects(decoded, read_objdump(_objdump(work, "code.o")))
        proof = proof._replace(state=BROKEN, why=why) if why else proof
    for name in ("code.lst", "plain.s", "text.o", "rule"):
        (work / name).unlink(missing_ok=True)
    return proof


def _with_titles(code: code_records.Code, work: Path) -> code_records.Code:
    """Return the code with the names that C++ symbols stand for, as far as c++filt knows them."""
    names = list(dict.fromkeys(f.owner for f in code.functions if f.owner.startswith("_Z")))
    if not names or not shutil.which("c++filt"):
        return code
    (work / "symbols").write_text("\n".join(names) + "\n")
    said = run(["sh", "-c", "exec c++filt < symbols"], work, _SECONDS)
    (work / "symbols").unlink()
    titles = said.stdout.split("\n")[: len(names)]
    if said.failed or len(titles) != len(names):
        return code
    return code._replace(titles=dict(zip(names, titles, strict=True)))


def _objdump(work: Path, name: str) -> str:
    argv = ["objdump", "-dr", "-w", "-z", "--no-show-raw-insn", name]
    out = work / f"{name}.dump"
    # Large objects print more than a pipe's limit: through a file.
    run(["sh", "-c", f"exec {shlex.join(argv)} > {shlex.quote(out.name)}"], work, _SECONDS)
    text = out.read_text(errors="replace")
    out.unlink()
    return text


def _refused(job: Job, why: str, seconds: float, complaints: tuple[Diagnostic, ...]) -> Unit:
    nothing = Proof(UNKNOWN, "it did not compile", 0, 0)
    return Unit(job.source, "", REFUSED, why, seconds, complaints, 0, {}, nothing)


def _why(said: Outcome, complaints: Sequence[Diagnostic]) -> str:
    if said.timed_out:
        return f"the compiler was stopped after {said.seconds:.0f} s"
    for complaint in complaints:
        if complaint.severity == "error":
            place = f"{complaint.file}:{complaint.line}: " if complaint.line else ""
            return f"{place}{complaint.message}"
    last = said.stderr.strip().split("\n")[-1].strip()
    return f"the compiler ended with {said.ending}" + (f": {last}" if last else " without a word")


def files_read(work: Path) -> list[str]:
    """Return the files that the compiler read for what it made in ``work``."""
    try:
        rule = (work / "rule").read_text(errors="surrogateescape")
        return list(read_dependencies(rule))
    except OSError:
        return []


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
    flags = job.build.flags
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
