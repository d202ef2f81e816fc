"""What the pins of a simulated chip do under each build of a program."""

from collections.abc import Sequence
from pathlib import Path

from hot_anvil.core.arch import image_kind_of
from hot_anvil.core.build.records import COMPILED
from hot_anvil.core.config.records import find_snippets
from hot_anvil.core.measure.elsewhere import clock_of
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.pins.files import read_recording, write_dump
from hot_anvil.core.pins.records import Pins, Recording
from hot_anvil.errors import RequestError
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.execute.emulation import emulation_of
from hot_anvil.system.execute.pins import find_recorder, link_firmware, record_pins
from hot_anvil.system.store.files import write_whole
from hot_anvil.workspace import Workspace, usecase


@usecase
def watch_pins(
    workspace: Workspace,
    builds: Sequence[str],
    snippets: Sequence[str],
    pins: Sequence[str],
    cycles: int,
    beside: Path | None,
) -> tuple[Pins, ...]:
    """Return what pins did in so many cycles of each program, beside an instrument's recording.

    ``pins`` are names such as PB5; none: all that changed.
    """
    chosen = [workspace.build(name) for name in builds]
    measured = _read(beside) if beside else ()
    out = []
    for snippet in find_snippets(workspace.bench, snippets):
        if not snippet.program:
            continue
        found, left_out = [], []
        for built in workspace.compile([snippet.name], chosen):
            name = built.build.name
            chain = workspace.toolchain(built.build)
            kind = image_kind_of(chain.target)
            if built.status != COMPILED or not kind or not kind.chip:
                why = f"refused: {built.why}" if built.status != COMPILED else "it is for no chip"
                left_out.append(f"{name}: {why}")
                continue
            emulation = emulation_of(chain, workspace.found.toolchains)
            if not emulation.host:
                left_out.append(f"{name}: {emulation.why}")
                continue
            host = host_toolchain(workspace.found.toolchains)
            recorder = find_recorder(chain.isa, host, workspace.store)
            firmware = link_firmware(built, chain, emulation.host, workspace.store)
            flags = (*chain.flags, *built.build.flags)
            clock = clock_of(flags, workspace.bench.grid.clock_hz)
            tick = 1 / clock if clock else None
            found.append(record_pins(firmware, name, cycles, tick, recorder, workspace.store))
        recordings = tuple(_only(one, pins) for one in (*found, *measured))
        out.append(Pins(snippet.name, recordings, tuple(left_out)))
    if not any(one.recordings for one in out):
        whys = [text for one in out for text in one.left_out]
        raise RequestError(
            "pins are those of whole programs for a chip: a source with a main, or a snippet with "
            "program = true, and a build whose flags name its chip. "
            f"{'; '.join(whys) or 'No snippet here is a program'}."
        )
    return tuple(out)


def dump_pins(found: Sequence[Pins], path: Path) -> None:
    """Write the one recording that was made here as a value change dump."""
    made = [r for one in found for r in one.recordings if r.unit == "cycles"]
    if len(made) != 1:
        named = listed(recording.source for recording in made) or "none"
        raise RequestError(
            f"a dump is of one build, and there are {len(made)}: {named}. Name the build.",
            about="dump",
        )
    write_whole(path, write_dump(made[0]))


def _read(path: Path) -> tuple[Recording, ...]:
    try:
        text = path.read_text(errors="replace")
    except OSError as error:
        raise RequestError(f"{path}: cannot be read ({error.strerror}).") from None
    return (read_recording(str(path), text),)


def _only(recording: Recording, pins: Sequence[str]) -> Recording:
    if not pins:
        return recording
    known = [trace.pin for trace in recording.traces]
    for pin in pins:
        if pin not in known:
            raise RequestError(
                f"{recording.source}: {pin} never changes.{did_you_mean(pin, known)} Those that "
                f"do: {listed(known) or 'none'}.",
                about="pin",
            )
    return recording._replace(traces=tuple(t for t in recording.traces if t.pin in pins))
