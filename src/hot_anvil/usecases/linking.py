"""Programs and libraries of builds, to be called."""

from collections.abc import Mapping, Sequence

from hot_anvil.core.arch import image_kind_of
from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.core.verify.only_there import why_only_there
from hot_anvil.system.build.bare_objects import is_bare
from hot_anvil.system.build.board_linking import board_linker, link_for_board
from hot_anvil.system.build.chip_linking import link_for_chip
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.build.linking import WORKER, Form, Program, link_program
from hot_anvil.system.execute.emulation import Emulation, emulation_of
from hot_anvil.system.process.threads import thread_pool
from hot_anvil.system.store.store import Store
from hot_anvil.usecases.entries import compile_drivers, entries_there
from hot_anvil.workspace import Workspace


def link_builds(
    workspace: Workspace,
    builds: Sequence[Built],
    signatures: Sequence[Signature],
    placement: int,
    form: Form = WORKER,
) -> dict[str, Program]:
    """Return the program of each build that compiled, its code at ``placement``.

    ``form`` is one of system/build/linking.py: a program, or a library to be loaded.
    """
    host = host_toolchain(workspace.found.toolchains)
    drivers: Mapping[str, Built] = {}
    if builds and builds[0].snippet.driver:
        drivers = compile_drivers(workspace, builds[0].snippet, builds)

    def link(built: Built) -> Program:
        chain = workspace.toolchain(built.build)
        driver = drivers.get(built.build.toolchain)
        store = workspace.store
        if chain.can["run"]:
            return link_program(built, signatures, chain, host, store, placement, driver, form)
        emulation = emulation_of(chain, workspace.found.toolchains)
        if not emulation.possible:
            return Program("", emulation.why, "")
        there = entries_there(workspace, built, signatures)
        if isinstance(there, str):
            return Program("", there, "")
        other = emulation.host
        why = _only_there(workspace, built, signatures) if is_bare(chain) else ""
        if why or not other:
            made = _on_board(built, signatures, chain, emulation, store, there, why)
        elif emulation.chip:
            made = link_for_chip(built, signatures, chain, other, host, store, there)
        else:
            made = link_program(built, signatures, chain, other, store, 0, driver, there=there)
        return made._replace(there=there)

    usable = [built for built in builds if built.status == COMPILED]
    with thread_pool() as pool:
        return dict(zip((b.build.name for b in usable), pool.map(link, usable), strict=True))


def link_for_boards(
    workspace: Workspace, builds: Sequence[Built], signatures: Sequence[Signature]
) -> dict[str, Program]:
    """Return the program for an emulated board of each build, or why there is none."""

    def link(built: Built) -> Program:
        chain = workspace.toolchain(built.build)
        linker = board_linker(chain, workspace.found.toolchains)
        there = entries_there(workspace, built, signatures)
        if isinstance(linker, str) or isinstance(there, str):
            return Program("", linker if isinstance(linker, str) else str(there), "")
        return link_for_board(built, signatures, chain, linker, workspace.store, there)

    with thread_pool() as pool:
        return dict(zip((b.build.name for b in builds), pool.map(link, builds), strict=True))


def _on_board(
    built: Built,
    signatures: Sequence[Signature],
    chain: Toolchain,
    emulation: Emulation,
    store: Store,
    there: Sequence[Signature | None],
    why: str,
) -> Program:
    """Return the program for an emulated board; ``why`` it has to be one."""
    if not emulation.board:
        lacking = board_linker(chain, ())
        return Program("", f"{why}; {lacking}" if why else emulation.why, "")
    made = link_for_board(built, signatures, chain, emulation.board, store, there)
    return made._replace(why=f"{why}; {made.why}") if made.why and why else made


def _only_there(workspace: Workspace, built: Built, signatures: Sequence[Signature]) -> str:
    kind = image_kind_of(workspace.toolchain(built.build).target)
    reached = (workspace.reached(built, signature.symbol) for signature in signatures)
    whys = (why_only_there(functions, kind) for functions in reached if kind)
    return next(filter(None, whys), "")
