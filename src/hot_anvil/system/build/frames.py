"""Read where variables live, from a compile with debug info that is proved to be the same code."""

from collections.abc import Callable
from hashlib import blake2b
from typing import Any, TypeVar

from hot_anvil.core.binary.elf import function_bodies
from hot_anvil.core.binary.frames import Frame, read_frames
from hot_anvil.core.binary.locations import FunctionLocals, read_locals
from hot_anvil.core.build.records import Built
from hot_anvil.core.codec import read
from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.system.build.debug_info import from_debug_info
from hot_anvil.system.build.jobs import snippet_jobs
from hot_anvil.system.store.store import Store

Kind = TypeVar("Kind", Frame, FunctionLocals)


def load_frames(
    built: Built, chain: Toolchain, family: Family, store: Store
) -> tuple[tuple[Frame, bool], ...]:
    """Return each function's frame, and whether the code it was read from is the build's own."""
    return _load(built, chain, family, store, "frames", Frame, read_frames)


def load_locals(
    built: Built, chain: Toolchain, family: Family, store: Store
) -> tuple[tuple[FunctionLocals, bool], ...]:
    """Return where each function's variables are, and whether that is told of the build's code."""
    return _load(built, chain, family, store, "locals", FunctionLocals, read_locals)


def _load(
    built: Built,
    chain: Toolchain,
    family: Family,
    store: Store,
    purpose: str,
    kind: type[Kind],
    reader: Callable[[bytes, str], tuple[Kind, ...]],
) -> tuple[tuple[Kind, bool], ...]:
    out: list[tuple[Kind, bool]] = []
    jobs = snippet_jobs(built.snippet, built.build, chain, family, store.root)
    for unit, job in zip(built.units, jobs, strict=True):
        if job.language in ("assembly", "cuda"):
            continue  # these carry no variables
        own = _digests((store.artefact(unit.artefact).object).read_bytes())

        def told(image: bytes, made: bytes) -> Any:
            return [reader(image, chain.isa), _digests(made)]

        plain, digests = from_debug_info(job, store, purpose, told)
        for row in plain:
            found = read(kind, row)
            out.append((found, digests.get(found.symbol) == own.get(found.symbol)))
    return tuple(out)


def _digests(data: bytes) -> dict[str, str]:
    """Return a digest of each function's bytes."""
    bodies = function_bodies(data)
    return {name: blake2b(body.data, digest_size=12).hexdigest() for name, body in bodies.items()}
