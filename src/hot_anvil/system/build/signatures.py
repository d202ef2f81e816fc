"""Read how to call a snippet's entries, from the debug info of its reference build."""

from contextlib import suppress

from hot_anvil.core.arch import architecture
from hot_anvil.core.binary.signatures import Signature, read_signatures
from hot_anvil.core.binary.variables import Variable, read_variables
from hot_anvil.core.build.builds import Build
from hot_anvil.core.codec import read
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.errors import RequestError
from hot_anvil.system.build.debug_info import from_debug_info
from hot_anvil.system.build.jobs import Job, snippet_jobs
from hot_anvil.system.store.store import Store


def read_interface(
    snippet: Snippet, build: Build, chain: Toolchain, family: Family, store: Store
) -> tuple[Signature, ...]:
    """Return the signatures of all functions of the snippet that others can call.

    The compile that gives them is never run nor shown; ``build`` is the
    reference's. Raises RequestError when it fails.
    """
    found: list[Signature] = []
    for job in snippet_jobs(snippet, build, chain, family, store.root):
        if job.language in ("assembly", "cuda"):
            continue  # they carry no types, or are not called as functions are
        found += _signatures(job, store)
    return tuple(found)


def read_lasting(
    snippet: Snippet, build: Build, chain: Toolchain, family: Family, store: Store
) -> tuple[Variable, ...]:
    """Return the variables of the snippet that live as long as the program.

    What does not compile with debug info has none that are known.
    """
    found: list[Variable] = []
    for job in snippet_jobs(snippet, build, chain, family, store.root):
        if job.language in ("assembly", "cuda"):
            continue
        with suppress(RequestError):
            plain = from_debug_info(
                job,
                store,
                "variables",
                lambda _image, made: read_variables(made),
                job.family.interface_flags,
            )
            found += read(tuple[Variable, ...], plain)
    return tuple(found)


def _signatures(job: Job, store: Store) -> tuple[Signature, ...]:
    # Where relocations of debug info cannot be read, linking has resolved them.
    plain_object = architecture(job.toolchain.isa).tooling.types_in_object
    found = from_debug_info(
        job,
        store,
        "interface",
        lambda image, made: read_signatures(made if plain_object else image),
        job.family.interface_flags,
    )
    return read(tuple[Signature, ...], found)
