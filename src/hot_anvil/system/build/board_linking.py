"""Programs for an emulated board: a build's objects with a worker that needs no system."""

from collections.abc import Sequence
from shutil import which

from hot_anvil.core.arch import image_kind_of
from hot_anvil.core.arch.boards import Board
from hot_anvil.core.binary.elf import loaded_digest, processor_attributes
from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.records import Built
from hot_anvil.core.calling.shim import shim_source
from hot_anvil.core.toolchain.records import Toolchain, without_system
from hot_anvil.system.build.linking import Program, why_not_linked, without_main
from hot_anvil.system.build.worker_objects import NATIVE, compiled
from hot_anvil.system.process.running import run
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.store import Store, shared_store

_OURS = NATIVE / "board"
_PARTS, _SCRIPT = ("ports", "faults", "values", "start", "library", "worker"), "link.ld"
_HEADERS = ("report.h", "worker.h", "board/board.h", "board/signal.h", "board/string.h")
_FLAGS = (
    "-O2", "-ffreestanding", "-fbuiltin", "-fno-tree-loop-distribute-patterns", "-fno-lto", "-w",
    "-c", f"-I{_OURS}",
)  # fmt: skip


def board_linker(chain: Toolchain, toolchains: Sequence[Toolchain]) -> Toolchain | str:
    """Return the gcc that links a toolchain's code for a board, or why no board can run it."""
    kind = image_kind_of(chain.target)
    if not kind or not kind.boards or not without_system(chain.target):
        return f"no board is known for {chain.target}"
    if not which(kind.boards.emulator):
        return f"an emulated board needs {kind.boards.emulator} (apt install {kind.boards.package})"
    for one in (chain, *toolchains):
        bare = one.family == "gcc" and "c" in one.drivers and without_system(one.target)
        if bare and image_kind_of(one.target) == kind:
            return one
    return "an emulated board needs a gcc for it (apt install gcc-arm-none-eabi)"


def link_for_board(
    built: Built,
    signatures: Sequence[Signature],
    chain: Toolchain,
    linker: Toolchain,
    store: Store,
    there: Sequence[Signature | None],
) -> Program:
    """Link a build's objects for the board that takes them all, and prove that they are in it.

    ``there``: the entries as the board has them.
    """
    board = _board_of(built, chain, store)
    if isinstance(board, str):
        return Program("", board, "")
    texts = {name: (_OURS / name).read_text() for name in (*(f"{p}.c" for p in _PARTS), _SCRIPT)}
    own = (*board.flags, *board.worker_flags, *_FLAGS)
    fixed = compiled(texts, linker, shared_store(store), own, _HEADERS)
    shim = {"shim.c": shim_source(signatures, there)}
    calls = compiled(shim, linker, store, (*board.flags, *_FLAGS), _HEADERS)
    units = [unit.artefact for unit in built.units]
    command = _command(built, chain, linker, board)
    name = digest("board", linker.drivers["c"].identity, *command, fixed.folder.name,
                  calls.folder.name, *units)  # fmt: skip
    made = store.artefact(name)
    if not store.holds(name):
        why = _link(built, signatures, command, (fixed, calls), board, name, store)
        if why:
            return Program("", why, "")
    return Program(str(made.worker), "", made.same_code.read_text(), there=tuple(there))


def _board_of(built: Built, chain: Toolchain, store: Store) -> Board | str:
    kind = image_kind_of(chain.target)
    assert kind and kind.boards
    objects = [store.artefact(unit.artefact).object.read_bytes() for unit in built.units]
    return kind.boards.choose([processor_attributes(data) for data in objects])


def _command(built: Built, chain: Toolchain, linker: Toolchain, board: Board) -> list[str]:
    """Return the start of the link: with a build's own flags, so that its helpers are linked."""
    own = chain.name == linker.name
    flags = (*chain.flags, *built.build.flags) if own else board.flags
    values = f"-Wl,--defsym=free_memory={board.values_at:#x}"
    return [linker.drivers["c"].path, *flags, "-nostdlib", "-Wl,--build-id=none", values]


def _link(
    built: Built,
    signatures: Sequence[Signature],
    command: Sequence[str],
    ours: tuple[Artefact, Artefact],
    board: Board,
    name: str,
    store: Store,
) -> str:
    """Make the program's artefact; return why it cannot be linked, "" when it can."""
    with store.workplace() as work:
        made = Artefact(work)
        fixed, calls = ours
        units = [store.artefact(unit.artefact).object for unit in built.units]
        own = [*(str(fixed.part(part)) for part in _PARTS), str(calls.part("shim"))]
        objects = [without_main(unit, work) for unit in units]
        script = f"-Wl,-T,{fixed.folder / _SCRIPT}"
        argv = [*command, script, *own, *objects, "-lgcc", "-o", str(made.worker)]
        said = run(argv, store.root)
        if why := why_not_linked(said, built, signatures, units, made.worker):
            return f"cannot be linked for a board without a C library: {why}"
        made.same_code.write_text(loaded_digest(made.worker.read_bytes()))
        made.board.write_text("\n".join((*board.command, board.name)))
        store.keep(work, name)
        return ""
