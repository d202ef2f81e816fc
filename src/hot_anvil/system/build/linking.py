"""Worker programs: one build's object linked with the worker, at a chosen placement.

Where a loop lies in memory can change its speed by tens of per cent, so each
program exists at several placements: the object's code starts at a fixed
offset from a 64-byte boundary, whatever the worker's own size. To be timed, a
build is also linked as a library, so that many share one process and the very
same memory; where that does not work, its program is timed.
"""

from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path
from typing import Literal, NamedTuple

from hot_anvil.core.binary.elf import (
    Body,
    function_bodies,
    image_differs,
    loaded_digest,
    object_facts,
    taken_symbols,
)
from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.records import Built
from hot_anvil.core.measure.sharing import reaches
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.errors import FaultError
from hot_anvil.system.build.bare_objects import BareParts, bare_parts, is_bare, without_claims
from hot_anvil.system.build.link_command import link_parts
from hot_anvil.system.build.worker_objects import (
    PLACEMENTS,
    WORKER_PARTS,
    first_complaint,
    shim_object,
    worker_objects,
)
from hot_anvil.system.process.running import Outcome, run
from hot_anvil.system.process.trouble import raise_own_trouble
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store


class Program(NamedTuple):
    """The executable of one build, or why there is none."""

    path: str
    why: str
    same_code: str  # equal for programs that load the same bytes
    reaches: str = ""  # what it takes or does that reaches beyond its own variables
    there: tuple[Signature | None, ...] = ()  # its entries as another machine has them


Form = Literal["worker", "library"]
WORKER: Form = "worker"
LIBRARY: Form = "library"
_START_UP = "set_fast_math"


def link_program(
    built: Built,
    signatures: Sequence[Signature],
    chain: Toolchain,
    host: Toolchain,
    store: Store,
    placement: int = PLACEMENTS[0],
    driver: Built | None = None,
    form: Form = WORKER,
    there: Sequence[Signature | None] = (),
) -> Program:
    """Link the build's object with the worker, and prove that the image holds its code.

    With ``form`` LIBRARY it is linked for a worker that loads it; a copy lies
    beside it as TWIN, since a process loads one file only once. ``placement``
    is the offset in bytes from a 64-byte boundary at which the object's code
    starts, or at the next that its own alignment allows. ``driver`` is the snippet's, compiled;
    ``there`` the entries as another machine has them.
    """
    bare = bare_parts(built, chain, store)
    shim = shim_object(signatures, host, store, there, bare.convention)
    fixed = worker_objects(host, store)
    command, libraries = link_parts(built, chain, host, store)
    command = [*command, *bare.flags]
    libraries = [*bare.libraries, *(name for name in libraries if name not in bare.left_out)]
    drivers = driver.units if driver else ()
    units = [unit.artefact for unit in (*built.all_units, *drivers)]
    identity = [driver.identity for driver in (*chain.drivers.values(), host.drivers["c"])]
    name = digest(
        f"{form} {stage_digest('worker')} {placement}",
        *identity,
        fixed.folder.name,
        shim.parent.name,
        *units,
        *command,
        *libraries,
    )
    target = store.artefact(name)
    if not store.holds(name):
        more = [store.artefact(unit.artefact).object for unit in drivers]
        parts = _Parts(fixed, [*more, shim], placement, form, chain, bare)
        why = _link(built, signatures, command, libraries, parts, name, store)
        if why:
            return Program("", why, "")
    path = target.worker if form == WORKER else target.library
    return Program(str(path), "", target.same_code.read_text(), target.reaches.read_text())


class _Parts(NamedTuple):
    """What a program is made of beside the build's own objects."""

    fixed: Artefact  # the worker's objects
    more: list[Path]  # the driver, and the calling loops
    placement: int
    form: Form
    chain: Toolchain  # that made the build's objects
    bare: BareParts

    def hint(self, complaints: str) -> str:
        """Return what may be behind a linker's complaints, "" where nothing is known."""
        if not self.bare.left_out or "undefined reference" not in complaints:
            return ""
        return "; the C library here takes floats in other registers than this code"

    @property
    def frame(self) -> list[str]:
        """What makes the link a program or a library."""
        if self.form == WORKER:
            return [str(self.fixed.part(part)) for part in WORKER_PARTS]
        # Only what can be loaded anywhere, and takes nothing that nobody has.
        script = f"-Wl,--version-script={self.fixed.exports}"
        return ["-shared", "-Wl,-z,defs", "-Wl,-z,text", script]


def _link(
    built: Built,
    signatures: Sequence[Signature],
    command: list[str],
    libraries: list[str],
    parts: _Parts,
    name: str,
    store: Store,
) -> str:
    """Make the program's artefact; return why it cannot be linked, "" when it can."""
    with store.workplace() as work:
        units = [store.artefact(unit.artefact).object for unit in built.units]
        objects = [without_main(unit, work) for unit in units]
        if is_bare(parts.chain):
            objects = [without_claims(unit, work, parts.chain) for unit in objects]
        pad = str(parts.fixed.part(f"pad{parts.placement}"))
        made = Artefact(work)
        image = made.worker if parts.form == WORKER else made.library
        # The pad comes first: what follows it in the code section starts at the placement.
        seed = ["-frandom-seed=hot-anvil"] if built.whole else []
        objects += [*map(str, parts.more), *parts.frame]
        argv = [*command, pad, *objects, *seed, "-o", str(image), *libraries]
        said = run(argv, store.root)
        shown = [store.artefact(built.whole.artefact).image] if built.whole else units
        if why := why_not_linked(said, built, signatures, shown, image):
            return f"cannot be linked: {why}{parts.hint(said.stderr)}"
        data = image.read_bytes()
        made.same_code.write_text(loaded_digest(data))
        taken = reaches(taken_symbols(data)) if parts.form == LIBRARY else ""
        # Start-up code that -ffast-math links changes a whole process, not one library.
        made.reaches.write_text(_START_UP if _START_UP.encode() in data else taken)
        if parts.form == LIBRARY:
            made.control.write_bytes(data)
        store.keep(work, name)
        return ""


def without_main(source: Path, work: Path, objcopy: str = "objcopy") -> str:
    """Return the object with a ``main`` of its own renamed: the worker brings one."""
    data = source.read_bytes()
    if not data.startswith(b"\x7fELF") or "main" not in object_facts(data).sizes:
        return str(source)
    copy = work / f"{source.parent.name}.o"
    said = run(
        [objcopy, "--redefine-sym", "main=main.of_the_snippet", str(source), str(copy)], work
    )
    return str(source if said.failed else copy)


@lru_cache(maxsize=64)
def _bodies(unit: Path) -> dict[str, Body]:
    return function_bodies(unit.read_bytes())


def why_not_linked(
    said: Outcome,
    built: Built,
    signatures: Sequence[Signature],
    units: Sequence[Path],
    image: Path,
) -> str:
    """Return what a linker complains of, "" for an image that is proved to hold a build's code."""
    raise_own_trouble(said, f"linking {built.build.name}")
    if said.failed:
        return first_complaint(said.stderr)
    _prove_image(built, signatures, units, image)
    return ""


def _prove_image(
    built: Built, signatures: Sequence[Signature], units: Sequence[Path], image: Path
) -> None:
    """Raise FaultError where an image is not made of the code of a build's objects."""
    bodies = {}
    for unit in units:
        bodies.update(_bodies(unit))
    symbols = [s.symbol for s in signatures if s.symbol in bodies]
    why = image_differs(image.read_bytes(), bodies, symbols)
    if why:
        raise FaultError(
            f"{built.build.name}: the program to run is not made of the code shown: {why}. "
            "This is a fault of Hot Anvil; please report it with the source and the flags."
        )
