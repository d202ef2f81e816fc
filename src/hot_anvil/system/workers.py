"""Worker programs: one executable per build, and the processes that run it."""

import os
import select
import shutil
import subprocess
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core import protocol
from hot_anvil.core.built import Built
from hot_anvil.core.errors import FaultError, MissingError, RequestError
from hot_anvil.core.inputs import InputSet
from hot_anvil.core.shim import shim_source
from hot_anvil.core.signature import Signature
from hot_anvil.core.toolchain import Toolchain
from hot_anvil.system.files import digest
from hot_anvil.system.interface import snippet_language
from hot_anvil.system.process import end_group, run, signal_name
from hot_anvil.system.store import FORMAT, Store

_NATIVE = Path(__file__).parent.parent / "native"
# The same for every build, and no link-time optimisation: see docs/measurement.md.
_FIXED_FLAGS = ("-O2", "-fPIC", "-fno-lto", "-w", "-c")
MEMORY_LIMIT = 2 << 30  # bytes of address space
_COMPLAINT_BYTES = 400


class Program(NamedTuple):
    """The executable of one build, or why there is none."""

    path: str
    why: str


def link_program(
    built: Built,
    signatures: Sequence[Signature],
    chain: Toolchain,
    host: Toolchain,
    store: Store,
) -> Program:
    """Link the build's object with the worker, and prove that the image holds its code."""
    text = shim_source(signatures)
    fixed = _fixed_objects(text, host, store)
    driver = chain.drivers[snippet_language(built.snippet)]
    units = [unit.artefact for unit in built.units]
    name = digest("program", str(FORMAT), driver.identity, fixed.name, *units, *built.build.flags)
    target = store.artefact(name) / "worker"
    if target.exists():
        return Program(str(target), "")
    work = store.workplace()
    try:
        objects = [_without_main(store.artefact(unit) / "code.o", work) for unit in units]
        own = [str(fixed / "shim.o"), str(fixed / "worker.o")]
        output = ["-o", str(work / "worker"), "-lm"]
        said = run([driver.path, *built.build.flags, *objects, *own, *output], store.root)
        if said.failed:
            return Program("", f"cannot be linked: {_first_complaint(said.stderr)}")
        _prove_image(built, signatures, work / "worker", store)
        store.keep(work, name)
        return Program(str(target), "")
    finally:
        shutil.rmtree(work, ignore_errors=True)


def host_toolchain(toolchains: Sequence[Toolchain]) -> Toolchain:
    """Return the compiler for the worker's own objects: any that makes native code."""
    native = [chain for chain in toolchains if chain.can["run"] and "c" in chain.drivers]
    if not native:
        raise MissingError(
            "No C compiler for this machine was found, and the worker that runs the code "
            "needs one (on Debian: apt install gcc)."
        )
    return max(native, key=lambda chain: (chain.family == "gcc", "gcc" in chain.aliases))


def _fixed_objects(shim_text: str, host: Toolchain, store: Store) -> Path:
    sources = [_NATIVE / "worker.c", _NATIVE / "worker.h"]
    driver = host.drivers["c"]
    contents = [source.read_bytes() for source in sources]
    name = digest("shim", str(FORMAT), driver.identity, shim_text, *contents, *_FIXED_FLAGS)
    folder = store.artefact(name)
    if folder.is_dir():
        return folder
    work = store.workplace()
    (work / "shim.c").write_text(shim_text)
    for source in ("shim.c", str(sources[0])):
        output = Path(source).stem + ".o"
        argv = [driver.path, *_FIXED_FLAGS, f"-I{_NATIVE}", source, "-o", output]
        said = run(argv, work)
        if said.failed:
            shutil.rmtree(work, ignore_errors=True)
            raise FaultError(
                f"The worker does not compile with {driver.command}: "
                f"{_first_complaint(said.stderr)}. Please report this."
            )
    return store.keep(work, name)


def _without_main(source: Path, work: Path) -> str:
    """Return the object with a ``main`` of its own renamed: the worker brings one."""
    from hot_anvil.core.elf import object_facts

    if "main" not in object_facts(source.read_bytes()).sizes:
        return str(source)
    copy = work / f"{source.parent.name}.o"
    said = run(
        ["objcopy", "--redefine-sym", "main=main.of_the_snippet", str(source), str(copy)], work
    )
    return str(source if said.failed else copy)


def _prove_image(built: Built, signatures: Sequence[Signature], image: Path, store: Store) -> None:
    from hot_anvil.core.elf import function_bodies, image_differs

    bodies = {}
    for unit in built.units:
        bodies.update(function_bodies((store.artefact(unit.artefact) / "code.o").read_bytes()))
    symbols = [s.symbol for s in signatures if s.symbol in bodies]
    why = image_differs(image.read_bytes(), bodies, symbols)
    if why:
        raise FaultError(
            f"{built.build.name}: the program to run is not made of the code shown: {why}. "
            "This is a fault of Hot Anvil; please report it with the source and the flags."
        )


def _first_complaint(text: str) -> str:
    lines = [line.strip() for line in text.split("\n") if line.strip()]
    telling = [line for line in lines if "undefined" in line or "error" in line.lower()]
    return (telling or lines or ["without a word"])[0][:_COMPLAINT_BYTES]


class WorkerEnded(Exception):  # noqa: N818 - an event, not an error of ours
    """The worker is gone: ``kind`` is "crashed" or "hung", ``why`` says how."""

    def __init__(self, kind: str, why: str) -> None:
        super().__init__(why)
        self.kind = kind
        self.why = why


class Worker:
    """One live process of a build's program."""

    def __init__(self, path: str, cpu: int = -1, memory: int = MEMORY_LIMIT) -> None:
        self._complaints = tempfile.TemporaryFile()  # noqa: SIM115 - lives as long as we do
        try:
            self._process = subprocess.Popen(
                [path, str(cpu), str(memory)],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=self._complaints,
                bufsize=0,
                start_new_session=True,
            )
        except OSError as error:
            raise RequestError(f"{path}: cannot be started ({error.strerror}).") from None
        assert self._process.stdin and self._process.stdout
        self._in = self._process.stdin.fileno()
        self._out = self._process.stdout.fileno()
        os.set_blocking(self._in, False)

    def prepare(self, slot: int, entry: int, inputs: InputSet, tight: bool = False) -> None:
        """Lay out an input set; ``tight`` puts the buffers' ends before a closed page."""
        self._ask(protocol.prepare(slot, entry, inputs, tight), 30.0)

    def call(self, slot: int, inputs: InputSet, seconds: float) -> protocol.Output:
        """Call the entry once and return all it left behind."""
        return protocol.read_output(self._ask(protocol.call(slot), seconds), inputs)

    def calibrate(self, slot: int, seconds: float, limit: float) -> tuple[int, float]:
        """Return (calls that fill ``seconds``, what the last batch took)."""
        return protocol.read_calibration(self._ask(protocol.calibrate(slot, seconds), limit))

    def visit(self, slot: int, calls: int, samples: int, limit: float) -> protocol.Visit:
        """Time ``samples`` batches of ``calls`` calls."""
        return protocol.read_visit(self._ask(protocol.visit(slot, calls, samples), limit))

    def probe(self) -> float:
        """Return the seconds that a fixed piece of work takes just now."""
        return protocol.read_probe(self._ask(protocol.request("Z"), 10.0))

    def close(self) -> None:
        """End the process; safe to call twice."""
        if self._process.poll() is None:
            end_group(self._process)
        self._process.wait()
        for stream in (self._process.stdin, self._process.stdout):
            if stream and not stream.closed:
                stream.close()
        self._complaints.close()

    def __enter__(self) -> "Worker":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _ask(self, message: bytes, seconds: float) -> bytes:
        deadline = time.monotonic() + seconds
        self._write(message, deadline, seconds)
        status, size = protocol.ANSWER_HEAD.unpack(self._read(5, deadline, seconds))
        if status:
            raise FaultError(f"the worker answered with status {status}; please report this.")
        return self._read(size, deadline, seconds)

    def _write(self, data: bytes, deadline: float, seconds: float) -> None:
        view = memoryview(data)
        while view:
            _, ready, _ = select.select([], [self._in], [], max(0.0, deadline - time.monotonic()))
            if not ready:
                raise self._hung(seconds)
            try:
                view = view[os.write(self._in, view) :]
            except BrokenPipeError:
                raise self._ended() from None

    def _read(self, size: int, deadline: float, seconds: float) -> bytes:
        parts = []
        while size:
            ready, _, _ = select.select([self._out], [], [], max(0.0, deadline - time.monotonic()))
            if not ready:
                raise self._hung(seconds)
            part = os.read(self._out, min(size, 1 << 20))
            if not part:
                raise self._ended()
            parts.append(part)
            size -= len(part)
        return b"".join(parts)

    def _hung(self, seconds: float) -> WorkerEnded:
        end_group(self._process)
        return WorkerEnded("hung", f"no answer within {seconds:g} s")

    def _ended(self) -> WorkerEnded:
        code = self._process.wait(10)
        self._complaints.seek(0)
        said = self._complaints.read(_COMPLAINT_BYTES).decode(errors="replace").strip()
        how = f"killed by {signal_name(-code)}" if code < 0 else f"ended with exit code {code}"
        if code == 122:
            how = "ran out of memory for its buffers"
        first = said.split("\n")[0] if said else ""
        return WorkerEnded("crashed", how + (f": {first}" if first else ""))
