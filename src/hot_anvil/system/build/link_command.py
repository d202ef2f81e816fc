"""The command that links a build: its driver, its flags, the libraries it needs."""

from collections.abc import Sequence
from pathlib import Path

from hot_anvil.core.arch import image_kind_of
from hot_anvil.core.build.records import Built
from hot_anvil.core.config.records import language_of
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.errors import MissingError
from hot_anvil.system.process.running import run
from hot_anvil.system.process.scope import current_scope
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.store import Store
from hot_anvil.system.toolchain.packages import package_libraries

# A driver of a later language links what the earlier ones need too.
_ORDER = ("assembly", "c", "c++", "fortran")


def host_toolchain(toolchains: Sequence[Toolchain]) -> Toolchain:
    """Return the compiler for the worker's own objects: any that makes native code."""
    here = [chain for chain in toolchains if not chain.machines]
    native = [chain for chain in here if chain.can["run"] and "c" in chain.drivers]
    if not native:
        raise MissingError(
            "No C compiler for this machine was found, and the worker that runs the code "
            "needs one (on Debian: apt install gcc)."
        )
    return max(native, key=lambda chain: (chain.family == "gcc", "gcc" in chain.aliases))


def driver_command(built: Built, chain: Toolchain, toolchains: Sequence[Toolchain]) -> list[str]:
    """Return the start of the link command of a build."""
    if chain.family == "rustc":  # its objects are linked as those of C are
        return [host_toolchain(toolchains).drivers["c"].path]
    languages = {language_of(unit.source) for unit in built.units}
    language = max(languages, key=_ORDER.index)
    flags = [*chain.flags, *built.build.flags]
    if chain.machines:  # it is not here: what links for this machine links its objects
        host = host_toolchain(toolchains)
        return [host.drivers.get(language, host.drivers["c"]).path]
    return [chain.drivers[language].path, *flags]


def link_parts(
    built: Built, chain: Toolchain, host: Toolchain, store: Store
) -> tuple[list[str], list[str]]:
    """Return the start of the command that links a build to run, and the libraries at its end.

    ``host`` is what compiles the worker for it.
    """
    libraries = trailing_libraries(built, chain, store)
    if chain.can["run"]:
        return driver_command(built, chain, [host]), libraries
    return static_command(built, chain, host), [*libraries, "-lpthread", "-lm"]


def static_command(built: Built, chain: Toolchain, host: Toolchain) -> list[str]:
    """Return the start of the link command of a program for another machine.

    It brings the C library with it; ``host`` is the compiler for that machine which has one.
    """
    languages = {language_of(unit.source) for unit in built.units}
    language = max(languages, key=_ORDER.index)
    own = host.name == chain.name
    driver = host.drivers.get(language if language != "assembly" else "c", host.drivers["c"])
    kind = image_kind_of(host.target)
    flags = [*built.build.flags] if own else []
    return [driver.path, *flags, "-static", *(kind.link_flags if kind else ())]


def trailing_libraries(built: Built, chain: Toolchain, store: Store) -> list[str]:
    """Return what follows the objects in the link command of a build."""
    snippet = built.snippet
    languages = {language_of(unit.source) for unit in built.units}
    libraries = [*snippet.link_flags, *package_libraries(snippet)]
    if chain.family == "rustc":
        libraries += [rust_library(chain.drivers["rust"].path, store), "-lpthread", "-ldl"]
    if {"c++", "fortran"} <= languages:
        libraries.append("-lstdc++")
    return [*libraries, "-lm"] if chain.can["run"] else libraries


def rust_library(path: str, store: Store) -> str:
    """Return an archive with the standard library of a Rust compiler, made once.

    It also holds what Rust itself adds only to a whole program, its allocator.
    """
    name = digest("rust library", path, str(Path(path).stat().st_mtime_ns))
    made = store.artefact(name)
    if store.holds(name):
        return str(made.archive)
    with store.workplace() as work:
        (work / "all.rs").write_text("")
        seconds = current_scope().limits.seconds
        said = run([path, "--crate-type=staticlib", "-o", "all.a", "all.rs"], work, seconds)
        return "" if said.failed else str(store.keep(work, name).archive)
