"""Whole programs on a simulated chip, their pins recorded."""

from pathlib import Path
from typing import NamedTuple

from hot_anvil.core.build.records import Built
from hot_anvil.core.pins.records import Edge, Recording, Trace
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.errors import MissingError, RequestError
from hot_anvil.system.build.chip_linking import chip_of
from hot_anvil.system.build.chips import kit_of
from hot_anvil.system.build.native_tools import native_tool
from hot_anvil.system.build.worker_objects import first_complaint
from hot_anvil.system.process.running import run
from hot_anvil.system.process.trouble import raise_own_trouble
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.store import Store

_MOST_CHANGES = 1_000_000
_CYCLES_A_SECOND = 2_000_000  # at the least
_ENDINGS = {
    "stopped": "it stopped itself for good: asleep, with interrupts off",
    "crashed": "the simulated chip came to an instruction that it does not have",
    "restarted": "it came to its first instruction again; what it did then is not recorded",
    "full": f"it was stopped at {_MOST_CHANGES:,} changes",
}


class Firmware(NamedTuple):
    """A build as a whole program for its chip."""

    program: Path
    chip: str


def link_firmware(built: Built, chain: Toolchain, linker: Toolchain, store: Store) -> Firmware:
    """Link a build's objects to the program they are; raises RequestError where that fails."""
    kit, chip = kit_of(chain.isa), chip_of(built, chain)
    if not chip:
        raise RequestError(f"{built.build.name}: {kit.no_chip}.")
    units = [unit.artefact for unit in built.units]
    name = digest("firmware", linker.drivers["c"].identity, chip, kit.identity(), *units)
    target = store.artefact(name)
    if not store.holds(name):
        with store.workplace() as work:
            objects = [str(store.artefact(unit).object) for unit in units]
            said = kit.link(linker, chip, objects, Artefact(work).program, work)
            raise_own_trouble(said, f"linking {built.build.name}")
            if said.failed:
                why = first_complaint(said.stderr)
                raise RequestError(f"{built.build.name}: cannot be linked: {why}")
            store.keep(work, name)
    return Firmware(target.program, chip)


def record_pins(
    firmware: Firmware,
    build: str,
    cycles: int,
    tick: float | None,
    recorder: Artefact,
    store: Store,
) -> Recording:
    """Run a program for so many cycles; return what its pins did."""
    with store.workplace() as work:
        out = work / "pins"
        argv = [str(recorder.simulator), firmware.chip, str(firmware.program), str(cycles)]
        seconds = 60 + cycles / _CYCLES_A_SECOND
        said = run([*argv, str(_MOST_CHANGES), str(out)], work, seconds)
        if said.failed:
            raise RequestError(f"{build}: {first_complaint(said.stderr)}.")
        return _read(out.read_text(), build, tick)


def _read(text: str, build: str, tick: float | None) -> Recording:
    *rows, last = (line.split() for line in text.splitlines())
    traces: dict[str, list[Edge]] = {}
    for cycle, pin, level in rows:
        traces.setdefault(pin, []).append(Edge(float(cycle), int(level)))
    made = tuple(Trace(pin, tuple(traces[pin])) for pin in sorted(traces))
    return Recording(build, made, float(last[1]), tick, "cycles", _ending(last[2]))


def _ending(word: str) -> str:
    """Return how a program ended, "" where it ran to the end."""
    what, _, vector = word.partition("-")
    if not vector:
        return _ENDINGS.get(what, "")
    return (
        f"interrupt vector {vector} was taken and has no handler (a misspelt one is none): the "
        "program started again, which is not recorded"
    )


def find_recorder(isa: str, host: Toolchain, store: Store) -> Artefact:
    """Return what runs programs for a kind of chips and records their pins."""
    kit = kit_of(isa)
    if not kit.pins:
        raise RequestError("pins are simulated on AVR chips only.")
    made = Artefact(store.folder).simulator.name
    tool, why = native_tool(host, store, (kit.pins,), made, kit.simulator_flags)
    if why:
        raise MissingError(f"pins: {kit.simulator_missing}.")
    return tool
