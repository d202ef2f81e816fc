"""The forms of the GNU compilers: a file for each pass, of which one function is read."""

import mmap
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from hot_anvil.core.stages import gimple, rtl
from hot_anvil.core.stages.records import Body, Stage
from hot_anvil.core.toolchain.invocation import OBJECT
from hot_anvil.errors import RequestError
from hot_anvil.system.build.compiling import run_compiler
from hot_anvil.system.build.jobs import Job
from hot_anvil.system.process.progress import Progress, no_progress
from hot_anvil.system.process.running import Outcome, run
from hot_anvil.system.store.store import Store

_FILE = re.compile(r".+\.(\d+)([tri])\.([\w.-]+)$")
_BATCH = 600 << 20  # bytes of dumps that may lie on the disk at once
_BYTES = 400  # of a dump for an instruction, about
_LANGUAGES = {"c": "c", "c++": "c++", "fortran": "f95"}
_MORE = {"tree": "-lineno", "rtl": "-blocks"}  # what dumps must tell
_READERS = {"t": gimple.read_functions, "r": rtl.read_functions}
_UNHEADED = ".gimple"  # its functions stand under their signatures, before they have symbols
_NO_FORM = ("original", "statistics", "earlydebug", "debug", "gimple-stats")  # no statements


def passes(job: Job, store: Store) -> tuple[tuple[str, str], ...]:
    """Return (kind, pass) of all passes that the job's flags turn on: "tree", "ipa" or "rtl"."""
    language = _LANGUAGES[job.language]
    fixed = ["-fdump-passes", "-x", language, "-c", "-o", "/dev/null", "/dev/null"]
    said = run([job.driver.path, *job.toolchain.flags, *job.flags, *fixed], store.root, 60)
    found = re.findall(r"^ *(tree|ipa|rtl)-(\S+) +: +ON$", said.stderr, re.M)
    return tuple(dict.fromkeys((kind, name) for kind, name in found))


def function_stages(
    job: Job,
    symbol: str,
    titles: Sequence[str],
    store: Store,
    work: Path,
    instructions: int,
    progress: Progress = no_progress,
) -> list[Stage]:
    """Return what each pass left of a function; passes that changed nothing are only named."""
    flags = [["-fdump-tree-all-lineno", "-fdump-ipa-all", "-fdump-rtl-all-blocks"]]
    on = passes(job, store)
    if instructions * _BYTES * len(on) > _BATCH:
        size = max(1, _BATCH // (instructions * _BYTES))
        own = [f"-fdump-{k}-{n}{_MORE[k]}" for k, n in on if k != "ipa"]
        own = ["-fdump-tree-gimple-lineno", *own]
        flags = [own[k : k + size] for k in range(0, len(own), size)]
    found: dict[int, tuple[str, str, Body | None]] = {}
    for k, batch in enumerate(flags):
        if len(flags) > 1:
            progress(f"asking {job.build.name} for its forms", k, len(flags))
        for number, kind, name, file in _dumped(job, store, work, batch):
            body = _of(file, kind, symbol, titles) if kind in _READERS else None
            if kind in _READERS and name not in _NO_FORM:
                found[number] = (kind, name, body)
            elif kind == "i":
                found.setdefault(number, (kind, f"ipa-{name}", None))
            file.unlink()
    return _changed(found[number] for number in sorted(found))


def _dumped(
    job: Job, store: Store, work: Path, flags: Sequence[str]
) -> Iterator[tuple[int, str, str, Path]]:
    """Compile and give the dumps: number in the order of passes, kind, name, file."""
    said = compile_with(job, store, work, flags)
    if said.failed:
        raise RequestError(
            f"{job.build.name} does not compile {job.source} when it is asked for its forms: "
            f"{said.ending}."
        )
    for file in sorted((work / "dumps").iterdir()):
        found = _FILE.match(file.name)
        if found:
            yield int(found[1]), found[2], found[3], file


def compile_with(job: Job, store: Store, work: Path, flags: Sequence[str]) -> Outcome:
    """Compile the job's source with dumps, which lie in the folder ``dumps`` of ``work``."""
    (work / "dumps").mkdir(exist_ok=True)
    more = [*flags, "-dumpdir", f"{work}/dumps/", "-w"]
    return run_compiler(job, store, work, OBJECT, "code.o", more)


def _of(file: Path, kind: str, symbol: str, titles: Sequence[str]) -> Body | None:
    """Return the last state of a function that a dump holds, None where it has none."""
    if file.name.endswith(_UNHEADED):
        with file.open(errors="surrogateescape") as lines:
            found = [body for body in _READERS[kind](lines) if body.function in titles]
        return found[-1]._replace(function=symbol) if len(found) == 1 else None
    text = _part(file, symbol.encode())
    bodies = [body for body in _READERS[kind](text.split("\n")) if body.function == symbol]
    return bodies[-1] if bodies else None


def _part(file: Path, symbol: bytes) -> str:
    """Return what a dump says of a function the last time, found without reading the lines."""
    if not file.stat().st_size:
        return ""
    with file.open("rb") as opened, mmap.mmap(opened.fileno(), 0, access=mmap.ACCESS_READ) as data:
        named = data.rfind(b" (" + symbol + b", funcdef_no=")
        start = data.rfind(b";; Function ", 0, named) if named >= 0 else -1
        if start < 0:
            return ""
        end = data.find(b"\n;; Function ", start)
        return data[start : end if end >= 0 else len(data)].decode(errors="surrogateescape")


def _changed(found: Iterator[tuple[str, str, Body | None]]) -> list[Stage]:
    stages: list[Stage] = []
    passed: list[str] = []
    for kind, name, body in found:
        before = stages[-1].body if stages else None
        if body is None:
            if kind == "i":
                passed.append(name)  # of the whole program; what it left stands in the next form
        elif before and before.holds_the_same(body):
            passed.append(name)
        else:
            taken = {stage.name for stage in stages}
            name = f"{name}-rtl" if name in taken else name
            stages.append(Stage(name, body, tuple(passed)))
            passed = []
    return stages


def whole_dump(job: Job, store: Store, work: Path, name: str) -> tuple[Path, str]:
    """Return the file with one pass's dump of all functions, and its kind: "t" or "r"."""
    on = passes(job, store)
    kinds = {n: k for k, n in reversed(on) if k != "ipa"} | {"gimple": "tree"}
    plain = name.removesuffix("-rtl")
    if name.endswith("-rtl") and ("rtl", plain) in on:
        kinds[plain] = "rtl"
    if plain not in kinds:
        from hot_anvil.core.names import did_you_mean

        raise RequestError(
            f"{name}: {job.build.name} runs no such pass.{did_you_mean(plain, kinds)} "
            "'hot-anvil stages' lists them all."
        )
    kind = kinds[plain]
    flag = f"-fdump-{kind}-{plain}{_MORE[kind]}"
    for _, letter, _, file in _dumped(job, store, work, [flag]):
        return file, letter
    raise RequestError(f"{name}: this pass of {job.build.name} ran on no function of {job.source}.")
