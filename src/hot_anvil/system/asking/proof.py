"""Proof that asking a compiler for more than code changes no code."""

from pathlib import Path

from hot_anvil.core.arch import has_objects
from hot_anvil.core.asm.reading import read_text
from hot_anvil.core.build.records import Unit
from hot_anvil.core.names import listed
from hot_anvil.core.proof.debug_flag import functions_that_differ, texts_that_differ
from hot_anvil.core.remarks.table import SAME
from hot_anvil.errors import RequestError
from hot_anvil.system.build.jobs import Job, load_code
from hot_anvil.system.store.store import Store


def changed_code(unit: Unit, made: Path, store: Store, isa: str) -> str:
    """Return SAME where ``made`` holds the unit's very code, else the functions that differ."""
    if has_objects(isa):
        own = store.artefact(unit.artefact).object.read_bytes()
        found = functions_that_differ(own, made.read_bytes())
    else:
        text = made.read_text(errors="surrogateescape")
        found = texts_that_differ(load_code(unit, store), read_text(text, store.root, isa))
    return listed(found) if found else SAME


def check_unchanged(job: Job, unit: Unit, store: Store) -> None:
    """Raise RequestError unless the files are still those that the unit was made of."""
    store.forget_digests()
    if store.lookup(job.key) != unit.artefact:
        raise RequestError(
            f"{job.source} or a file it includes was edited while {job.build.name} was asked about "
            "it; ask once more."
        )
