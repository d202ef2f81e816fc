"""The workshop's entries: how a snippet's functions are called, directly or through a driver."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from hot_anvil.core.binary.signatures import Signature, find_entries
from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.calling.driver import DRIVER_FLAGS, through_driver
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.names import listed
from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.errors import RequestError
from hot_anvil.system.build.grid import compile_grid
from hot_anvil.system.build.signatures import read_interface
from hot_anvil.system.build.worker_objects import NATIVE

if TYPE_CHECKING:
    from hot_anvil.api import Workshop


class Entries(NamedTuple):
    """The entries of a snippet that can be called here, and notes on those that cannot."""

    signatures: tuple[Signature, ...]
    notes: tuple[str, ...]


def find_callable(workshop: "Workshop", snippet: Snippet) -> Entries:
    """Return the entries of a snippet as they are called.

    A rival in a language that no toolchain of the grid takes here is left out.
    """
    known = known_functions(workshop, snippet)
    compiled = {u.source for b in workshop.compile([snippet.name]) for u in b.units}
    lacking = [source for source in snippet.sources if source not in compiled]
    names = {name for s in known for name in (s.name, s.symbol)}
    absent = [entry for entry in snippet.entries if lacking and entry not in names]
    wanted = [entry for entry in snippet.entries if entry not in absent]
    notes: tuple[str, ...] = ()
    if absent:
        why = f"no compiler of the grid is here for {listed(lacking)}"
        notes = (f"{listed(absent)}: left out: {why}.",)
    if absent and not wanted:
        raise RequestError(f"{workshop.bench.file}: snippet {snippet.name}: {notes[0]}")
    found = find_entries(wanted, known, snippet.sources)
    if snippet.driver:
        own = snippet._replace(sources=(snippet.driver,), driver="")
        builds = [_driver_build(build) for build in workshop.plan.of[snippet.name]]
        functions = known_functions(workshop, own, builds)
        found = through_driver(found, functions, f"{workshop.bench.file}: {snippet.driver}")
    return Entries(found, notes)


def known_functions(
    workshop: "Workshop", snippet: Snippet, builds: Sequence[Build] = ()
) -> tuple[Signature, ...]:
    """Return how to call every function of the snippet that others can call."""
    usable = list(builds)
    if not usable:
        compiled = workshop.compile([snippet.name])
        usable = [b.build for b in compiled if b.status == COMPILED]
        if not usable:
            raise RequestError(
                f"{workshop.bench.file}: snippet {snippet.name} compiles under no build. "
                f"{_first_refusal(compiled, snippet)}"
            )
    # The reference first; what it has no compiler for, from the first build that has.
    order = sorted(usable, key=lambda build: build != workshop.plan.reference)
    out: dict[str, Signature] = {}
    languages: set[str] = set()
    for build in order:
        chain = workshop.toolchain(build)
        if set(snippet.languages) & set(chain.drivers) <= languages:
            continue
        languages |= set(chain.drivers)
        family = family_of(workshop, chain)
        for signature in read_interface(snippet, build, chain, family, workshop.store):
            out.setdefault(signature.symbol, signature)
    return tuple(out.values())


def _first_refusal(compiled: Sequence[Built], snippet: Snippet) -> str:
    if compiled:
        return f"{compiled[0].build.name} says: {compiled[0].why}"
    return f"No toolchain of the grid takes {listed(snippet.languages)}."


def family_of(workshop: "Workshop", chain: Toolchain) -> Family:
    """Return the family of a toolchain."""
    return next(f for f in workshop.found.families if f.name == chain.family)


def _driver_build(build: Build) -> Build:
    flags = (*DRIVER_FLAGS, f"-I{NATIVE}")
    return Build(build.toolchain, "driver", flags)


def compile_drivers(
    workshop: "Workshop", snippet: Snippet, builds: Sequence[Built]
) -> Mapping[str, Built]:
    """Return a snippet's driver as each toolchain of its builds compiles it."""
    own = snippet._replace(sources=(snippet.driver,), driver="")
    wanted = dict.fromkeys(_driver_build(built.build) for built in builds)
    known = workshop.found.toolchains, workshop.found.families
    made = compile_grid([(own, build) for build in wanted], *known, workshop.store)
    for built in made:
        if built.status != COMPILED:
            raise RequestError(
                f"{workshop.bench.file}: snippet {snippet.name}: the driver {snippet.driver} does "
                f"not compile under {built.build.toolchain}: {built.why}"
            )
    return {built.build.toolchain: built for built in made}
