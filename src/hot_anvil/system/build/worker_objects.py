"""The worker's own objects: compiled once, with flags of their own."""

from collections.abc import Mapping, Sequence
from pathlib import Path
from threading import Lock

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.calling.shim import shim_source
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.errors import FaultError
from hot_anvil.system.process.running import run
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store, shared_store

# Bytes from a 64-byte boundary after which the linker may put code. What asks for 16-byte
# alignment, as optimised functions mostly do, then meets each such position of a cache line twice;
# what asks for none (gcc -Os) meets eight, no two alike modulo 16. Higher bits vary too.
PLACEMENTS = (0, 77, 154, 231, 1076, 1409, 2459, 3238)
NATIVE = Path(__file__).parent.parent.parent / "native"
WORKER_PARTS = (
    "worker", "io", "slots", "crash", "copies", "reach", "timing", "threads", "state",
    "surroundings", "sampler",
    "sampling", "cold",
)  # fmt: skip
_LOADER = ("libraries", "launch")  # what only a worker without entries has
# What a build loaded as a library shows of itself: only its table of entries.
_EXPORTS = "{ global: hot_anvil_entries; hot_anvil_entry_count; local: *; };\n"
# The same for every build, and no link-time optimisation: see docs/measurement.md.
_FIXED_FLAGS = ("-O2", "-fPIC", "-fno-lto", "-w", "-c")
_PAD = """    .text
    .p2align 6
    .skip {bytes}, 0xcc
    .section .note.GNU-stack,"",%progbits
"""
_HEADERS = ("report.h", "worker.h")
_NO_SOURCES = (".map", ".ld")
_one_at_a_time = Lock()  # threads that need the same objects wait for the first to make them


def worker_objects(host: Toolchain, store: Store) -> Artefact:
    """Return the folder with the worker's objects, and a pad for each placement."""
    parts = (*WORKER_PARTS, *_LOADER)
    sources = {f"{part}.c": (NATIVE / f"{part}.c").read_text() for part in parts}
    pads = {f"pad{placement}.s": _PAD.format(bytes=placement) for placement in PLACEMENTS}
    return compiled({**sources, **pads, "exports.map": _EXPORTS}, host, shared_store(store))


def loading_worker(host: Toolchain, store: Store) -> str:
    """Return the path of a worker with no entries of its own, which loads builds as libraries."""
    fixed = worker_objects(host, store)
    name = digest("loading worker", fixed.folder.name)
    with _one_at_a_time:
        if store.holds(name):
            return str(store.artefact(name).worker)
        with store.workplace() as work:
            objects = [str(fixed.part(part)) for part in (*WORKER_PARTS, *_LOADER)]
            said = run(
                [host.drivers["c"].path, *objects, "-o", "worker", "-ldl", "-lpthread"], work
            )
            if said.failed:
                raise FaultError(
                    f"The worker cannot be linked: {first_complaint(said.stderr)}. Please report "
                    "this."
                )
            return str(store.keep(work, name).worker)


def shim_object(
    signatures: Sequence[Signature],
    host: Toolchain,
    store: Store,
    there: Sequence[Signature | None] = (),
    convention: str = "",
) -> Path:
    """Return the object with the calling loops of entries, on another machine as they are there."""
    source = shim_source(signatures, there, convention)
    return compiled({"shim.c": source}, host, store).part("shim")


def compiled(
    sources: Mapping[str, str],
    host: Toolchain,
    store: Store,
    flags: Sequence[str] = _FIXED_FLAGS,
    headers: Sequence[str] = _HEADERS,
) -> Artefact:
    """Return the folder with the objects of sources, and with those that are no sources.

    ``headers`` are names in ``native/``, of what the sources include.
    """
    driver = host.drivers["c"]
    header = b"".join((NATIVE / name).read_bytes() for name in headers)
    texts = [part for source in sources.items() for part in source]
    name = digest("harness", stage_digest("worker"), driver.identity, header, *texts, *flags)
    folder = store.artefact(name)
    with _one_at_a_time:
        if store.holds(name):
            return folder
        with store.workplace() as work:
            for source, text in sources.items():
                (work / source).write_text(text)
                if source.endswith(_NO_SOURCES):
                    continue
                argv = [driver.path, *flags, f"-I{NATIVE}", source]
                said = run([*argv, "-o", f"{Path(source).stem}.o"], work)
                if said.failed:
                    raise FaultError(
                        f"The worker does not compile with {driver.command}: "
                        f"{first_complaint(said.stderr)}. Please report this."
                    )
            return store.keep(work, name)


def first_complaint(text: str) -> str:
    """Return the line of a compiler's or linker's complaints that tells most."""
    lines = [line.strip() for line in text.split("\n") if line.strip()]
    telling = [line for line in lines if "undefined" in line or "error" in line.lower()]
    return (telling or lines or ["without a word"])[0][:400]
