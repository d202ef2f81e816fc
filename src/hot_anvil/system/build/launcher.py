"""The launcher of code under study: compiled once, and asked what it can hold here."""

import shutil
from collections.abc import Callable, Sequence
from threading import Lock

from hot_anvil.core.names import listed
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.errors import FaultError
from hot_anvil.system.process.confinement import Confinement, find_means
from hot_anvil.system.process.notices import notice
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.store import Store, shared_store

_SOURCE, _MADE = "confine.c", "confine"


def confine_by(
    toolchains: Sequence[Toolchain], store: Store, wanted: bool
) -> Callable[[], Confinement]:
    """Return what makes the launcher, and tries its means, when it is first asked.

    Where not ``wanted``, it starts programs but holds nothing.
    """
    lock = Lock()
    found: list[Confinement] = []

    def confinement() -> Confinement:
        with lock:
            if not found:
                from hot_anvil.system.build.link_command import host_toolchain

                path = _launcher(host_toolchain(toolchains), store)
                found.append(_find(path, store) if wanted else Confinement(path, ""))
            return found[0]

    return confinement


def _find(path: str, store: Store) -> Confinement:
    held = find_means(path, str(store.folder))._replace(hidden=tuple(store.answers))
    if held.loose:
        why = "; ".join(why for _, why in held.lacking)
        notice(
            f"this system does not let the code that runs be held in full ({why}): it could "
            f"{listed(held.loose)}; see docs/security.md"
        )
    return held


def _launcher(host: Toolchain, store: Store) -> str:
    from hot_anvil.system.build.native_tools import native_tool

    # Linked with no library it starts in half the time; not every system has those.
    for flags in (("-static",), ()):
        tool, why = native_tool(host, shared_store(store), (_SOURCE,), _MADE, flags)
        if not why:
            return _in_bench(tool, store)
    raise FaultError(
        f"The launcher does not compile with {host.drivers['c'].command}: {why}. Please report "
        "this."
    )


def _in_bench(tool: Artefact, store: Store) -> str:
    """Return the path of a copy in the bench: what runs confined must be seen from there."""
    name = digest("launcher", tool.folder.name)
    if not store.holds(name):
        with store.workplace() as work:
            shutil.copy(tool.launcher, Artefact(work).launcher)
            store.keep(work, name)
    return str(store.artefact(name).launcher)
