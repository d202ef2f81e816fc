"""Programs for a chip: a build's objects with a small main, and the simulator that runs them."""

import shutil
from collections.abc import Sequence
from typing import NamedTuple

from hot_anvil.core.binary.elf import loaded_digest
from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.records import Built
from hot_anvil.core.calling.chip_shim import chip_entries, chip_shim
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.build.chips import kit_of
from hot_anvil.system.build.chips.kit import ChipKit
from hot_anvil.system.build.linking import Program, why_not_linked, without_main
from hot_anvil.system.build.native_tools import native_tool
from hot_anvil.system.build.worker_objects import first_complaint
from hot_anvil.system.process.running import run
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store, shared_store

_SOURCES = ("chip.c", "noting.c")
_HEADERS = ("chip.h", "noting.h", "report.h", "tape.h")


def chip_of(built: Built, chain: Toolchain) -> str:
    """Return the chip that a build's flags name, "" for none."""
    return kit_of(chain.isa).chip_of((*chain.flags, *built.build.flags))


def link_for_chip(
    built: Built,
    signatures: Sequence[Signature],
    chain: Toolchain,
    linker: Toolchain,
    host: Toolchain,
    store: Store,
    there: Sequence[Signature | None],
) -> Program:
    """Link a build's objects for its chip with ``linker``; ``host`` compiles the simulator.

    ``there``: the entries as the chip has them.
    """
    kit, chip = kit_of(chain.isa), chip_of(built, chain)
    if not chip:
        return Program("", kit.no_chip, "")
    simulator = _simulator(kit, host, store)
    if isinstance(simulator, str):
        return Program("", simulator, "")
    shim, entries = chip_shim(signatures, there), chip_entries(chip, signatures)
    units = [unit.artefact for unit in built.units]
    identity = (linker.drivers["c"].identity, kit.identity())
    stage = stage_digest("worker")
    name = digest("chip", stage, *identity, simulator.folder.name, shim, entries, *units)
    target = store.artefact(name)
    if not store.holds(name):
        parts = _Parts(kit, linker, chip, shim, entries, simulator)
        why = _link(built, signatures, parts, name, store)
        if why:
            return Program("", why, "")
    return Program(str(target.worker), "", target.same_code.read_text())


class _Parts(NamedTuple):
    """What a program for a chip is made of beside a build's objects."""

    kit: ChipKit
    linker: Toolchain
    chip: str
    shim: str
    entries: str
    simulator: Artefact


def _link(
    built: Built, signatures: Sequence[Signature], parts: _Parts, name: str, store: Store
) -> str:
    """Make the program's artefact; return why it cannot be linked, "" when it can."""
    kit, linker = parts.kit, parts.linker
    with store.workplace() as work:
        made = Artefact(work)
        (work / "main.c").write_text(parts.shim)
        said = run([*kit.compiler(linker, parts.chip), "main.c", "-o", "main.o"], work)
        if said.failed:
            return f"its parameters cannot be passed on this chip: {first_complaint(said.stderr)}"
        units = [store.artefact(unit.artefact).object for unit in built.units]
        objects = [without_main(unit, work, kit.objcopy(linker)) for unit in units]
        said = kit.link(linker, parts.chip, [*objects, "main.o"], made.worker, work)
        if why := why_not_linked(said, built, signatures, units, made.worker):
            return f"cannot be linked: {why}"
        made.same_code.write_text(loaded_digest(made.worker.read_bytes()))
        made.chip.write_text(parts.entries)
        shutil.copy(parts.simulator.simulator, made.simulator)
        store.keep(work, name)
        return ""


def simulator_lacks(chain: Toolchain, host: Toolchain, store: Store) -> str:
    """Return why chips that a toolchain makes code for cannot be simulated here, "" if they can."""
    made = _simulator(kit_of(chain.isa), host, store)
    return made if isinstance(made, str) else ""


def _simulator(kit: ChipKit, host: Toolchain, store: Store) -> Artefact | str:
    """Return the compiled worker for a kind of chips, or why there is none."""
    sources, made = (*_SOURCES, *kit.simulator), Artefact(store.folder).simulator.name
    shared = shared_store(store)
    tool, why = native_tool(host, shared, sources, made, kit.simulator_flags, _HEADERS)
    return kit.simulator_missing if why else tool
