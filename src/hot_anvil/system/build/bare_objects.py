"""Code for chips without a system, made fit for a program for Linux on such a processor.

Its instructions stay as they are. What goes is the section by which a linker refuses to join
objects for chips with others; what comes is the compiler's own library of helpers, so that a
division or a float addition runs the code that it would run on the chip.
"""

import shutil
from functools import cache
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core.arch import image_kind_of
from hot_anvil.core.binary.elf import floats_in_registers
from hot_anvil.core.build.records import Built
from hot_anvil.core.toolchain.records import Toolchain, without_system
from hot_anvil.system.process.running import run
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.store import Store

# Floats travel in registers for whole numbers.
_BASE_CONVENTION = '__attribute__((pcs("aapcs")))'
# What takes or gives floats in the C library of the program, whose registers for them are others.
_OTHER_CONVENTION = (
    "atof copysign difftime drand48 erand48 frexp isinf isnan ldexp modf scalbn "
    "strtod strtof strtold"
).split()


class BareParts(NamedTuple):
    """What a link of such code takes beside other links."""

    convention: str = ""  # how its functions are declared for the compiler that calls them
    libraries: tuple[str, ...] = ()
    left_out: tuple[str, ...] = ()  # of the usual libraries
    flags: tuple[str, ...] = ()


def is_bare(chain: Toolchain) -> bool:
    """Tell whether a toolchain's objects have to be made fit."""
    kind = image_kind_of(chain.target)
    return bool(kind and kind.claims) and without_system(chain.target)


def bare_parts(built: Built, chain: Toolchain, store: Store) -> BareParts:
    """Return what the link of a build takes; nothing for one that is not for such chips.

    Code that passes floats in other registers than the program's C library is not linked with
    what would misread them there: naming it, the linker says that it is undefined.
    """
    if not is_bare(chain):
        return BareParts()
    objects = [store.artefact(unit.artefact).object.read_bytes() for unit in built.units]
    helpers = tuple(_helper_library(built, chain, store))
    if all(map(floats_in_registers, objects)):
        return BareParts("", helpers)
    flags = tuple(f"-Wl,--wrap={name}" for name in _OTHER_CONVENTION)
    return BareParts(_BASE_CONVENTION, helpers, ("-lm",), flags)


def without_claims(source: str, work: Path, chain: Toolchain) -> str:
    """Return an object, or a library, without what says which processors it is for."""
    kind = image_kind_of(chain.target)
    assert kind
    copy = work / f"bare-{Path(source).parent.name}-{Path(source).name}"
    said = run([f"{chain.binutils}-objcopy", "-R", kind.claims, source, str(copy)], work)
    return source if said.failed else str(copy)


@cache
def _helpers_of(driver: str, identity: str, flags: tuple[str, ...], folder: str) -> Path | None:
    """Return the file of a compiler's helpers; ``identity`` is the compiler's, by content."""
    said = run([driver, *flags, "-print-libgcc-file-name"], folder)
    library = Path(said.stdout.strip())
    return None if said.failed or not library.is_file() else library


def _helper_library(built: Built, chain: Toolchain, store: Store) -> list[str]:
    """Return the compiler's library of helpers for a build's flags, [] where it brings none."""
    driver = next(iter(chain.drivers.values()))
    flags = (*chain.flags, *built.build.flags)
    library = _helpers_of(driver.path, driver.identity, flags, store.root)
    if library is None:
        return []
    name = digest("bare helpers", driver.identity, str(library))
    if not store.holds(name):
        with store.workplace() as work:
            made = Artefact(work).archive
            shutil.copyfile(library, made)
            Path(without_claims(str(made), work, chain)).replace(made)
            store.keep(work, name)
    return [str(store.artefact(name).archive)]
