"""Programs of our own beside the worker: compiled from ``native/`` on first use, once."""

from collections.abc import Sequence
from threading import Lock

from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.build.worker_objects import NATIVE, first_complaint
from hot_anvil.system.process.running import run
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.store import Store

_FLAGS = ("-O2", "-w")
_one_at_a_time = Lock()


def native_tool(
    host: Toolchain,
    store: Store,
    sources: Sequence[str],
    made: str,
    flags: Sequence[str] = (),
    headers: Sequence[str] = (),
) -> tuple[Artefact, str]:
    """Return the artefact that holds the file ``made``, and the compiler's complaint, "" for none.

    ``sources`` and ``headers`` are names in ``native/``; ``flags`` come last, as libraries must.
    """
    driver = host.drivers["c"]
    texts = [(NATIVE / name).read_bytes() for name in (*sources, *headers)]
    name = digest("native tool", driver.identity, made, *sources, *texts, *flags)
    with _one_at_a_time:
        if store.holds(name):
            return store.artefact(name), ""
        with store.workplace() as work:
            compiled = [str(NATIVE / source) for source in sources]
            said = run([driver.path, *_FLAGS, *compiled, "-o", made, *flags], work)
            if said.failed:
                return store.artefact(name), first_complaint(said.stderr)
            return store.keep(work, name), ""
