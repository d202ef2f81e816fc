"""Programs for a chip: a build's objects with a small main, and the simulator that runs them."""

import os
import shutil
from collections.abc import Sequence
from threading import Lock

from hot_anvil.core.binary.elf import loaded_digest
from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.records import Built
from hot_anvil.core.calling.chip_shim import chip_entries, chip_shim
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.build.linking import Program, prove_image, without_main
from hot_anvil.system.build.worker_objects import NATIVE, first_complaint
from hot_anvil.system.process.running import run
from hot_anvil.system.process.trouble import raise_own_trouble
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store

_CHIP_FLAG = "-mmcu="
_SHIM_FLAGS = ("-Os", "-w", "-c")
_SIMULATOR = ("-O2", "-w", "-I/usr/include/simavr", "avr.c", "-o", "simulator", "-lsimavr", "-lelf")
_INSTALL = "apt install libsimavr-dev libelf-dev"
_one_at_a_time = Lock()


def chip_of(built: Built, chain: Toolchain) -> str:
    """Return the chip that a build's flags name, "" for none."""
    flags = [f for f in (*chain.flags, *built.build.flags) if f.startswith(_CHIP_FLAG)]
    return flags[-1].removeprefix(_CHIP_FLAG) if flags else ""


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
    chip = chip_of(built, chain)
    if not chip:
        return Program("", f"no chip is named: say it in the flags ({_CHIP_FLAG}atmega328p)", "")
    simulator = _simulator(host, store)
    if isinstance(simulator, str):
        return Program("", simulator, "")
    shim, entries = chip_shim(signatures, there), chip_entries(chip, signatures)
    units = [unit.artefact for unit in built.units]
    identity = linker.drivers["c"].identity
    stage = stage_digest("worker")
    name = digest("chip", stage, identity, simulator.folder.name, shim, entries, *units)
    target = store.artefact(name)
    if not store.holds(name):
        why = _link(built, signatures, linker, (chip, shim, entries), simulator, name, store)
        if why:
            return Program("", why, "")
    return Program(str(target.worker), "", target.same_code.read_text())


def _link(
    built: Built,
    signatures: Sequence[Signature],
    linker: Toolchain,
    parts: tuple[str, str, str],
    simulator: Artefact,
    name: str,
    store: Store,
) -> str:
    chip, shim, entries = parts
    driver = [linker.drivers["c"].path, f"{_CHIP_FLAG}{chip}"]
    work = store.scratch()
    made = Artefact(work)
    try:
        (work / "main.c").write_text(shim)
        said = run([*driver, *_SHIM_FLAGS, "main.c", "-o", "main.o"], work)
        if said.failed:
            return f"its parameters cannot be passed on this chip: {first_complaint(said.stderr)}"
        units = [store.artefact(unit.artefact).object for unit in built.units]
        objects = [without_main(unit, work, f"{linker.binutils}-objcopy") for unit in units]
        argv = [*driver, *objects, str(work / "main.o"), "-o", str(made.worker), "-lm"]
        said = run(argv, store.root)
        raise_own_trouble(said, f"linking {built.build.name}")
        if said.failed:
            return f"cannot be linked: {first_complaint(said.stderr)}"
        prove_image(built, signatures, units, made.worker)
        made.same_code.write_text(loaded_digest(made.worker.read_bytes()))
        made.chip.write_text(entries)
        os.link(simulator.simulator, made.simulator)
        store.keep(work, name)
        return ""
    finally:
        shutil.rmtree(work, ignore_errors=True)


def _simulator(host: Toolchain, store: Store) -> Artefact | str:
    """Return the compiled worker for chips, or why there is none."""
    source = NATIVE / "avr.c"
    driver = host.drivers["c"]
    name = digest("simulator", driver.identity, source.read_bytes(), *_SIMULATOR)
    with _one_at_a_time:
        if not store.holds(name):
            work = store.scratch()
            shutil.copyfile(source, work / source.name)
            said = run([driver.path, *_SIMULATOR], work)
            if said.failed:
                shutil.rmtree(work, ignore_errors=True)
                return f"the simulator's library is not here ({_INSTALL})"
            store.keep(work, name)
    return store.artefact(name)
