"""Read where variables live, from a compile with debug info that is proved to be the same code."""

from hashlib import blake2b
from typing import Any

from hot_anvil.core.binary.elf import function_bodies
from hot_anvil.core.binary.frames import Frame, read_frames
from hot_anvil.core.build.records import Built
from hot_anvil.core.codec import read
from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.system.build.debug_info import from_debug_info
from hot_anvil.system.build.jobs import snippet_jobs
from hot_anvil.system.store.store import Store


def load_frames(
    built: Built, chain: Toolchain, family: Family, store: Store
) -> tuple[tuple[Frame, bool], ...]:
    """Return each function's frame, and whether the code it was read from is the build's own."""
    out = []
    jobs = snippet_jobs(built.snippet, built.build, chain, family, store.root)
    for unit, job in zip(built.units, jobs, strict=True):
        if job.language in ("assembly", "cuda"):
            continue  # these carry no variables
        own = _digests((store.artefact(unit.artefact).object).read_bytes())

        def told(image: bytes, made: bytes) -> Any:
            return [read_frames(image, chain.isa), _digests(made)]

        plain, digests = from_debug_info(job, store, "frames", told)
        frames = read(tuple[Frame, ...], plain)
        out += [(frame, digests.get(frame.symbol) == own.get(frame.symbol)) for frame in frames]
    return tuple(out)


def _digests(data: bytes) -> dict[str, str]:
    """Return a digest of each function's bytes."""
    bodies = function_bodies(data)
    return {name: blake2b(body.data, digest_size=12).hexdigest() for name, body in bodies.items()}
