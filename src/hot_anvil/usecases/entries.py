"""The workspace's entries: how a snippet's functions are called, directly or through a driver."""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.binary.signatures import Signature, differs_in, find_entries
from hot_anvil.core.binary.variables import Variable
from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.calling.driver import DRIVER_FLAGS, through_driver
from hot_anvil.core.config.records import Snippet, find_snippets
from hot_anvil.core.names import listed
from hot_anvil.errors import RequestError
from hot_anvil.system.build.signatures import read_interface, read_lasting
from hot_anvil.system.build.worker_objects import NATIVE
from hot_anvil.workspace import Workspace, usecase


class Entries(NamedTuple):
    """The entries of a snippet that can be called here, and notes on those that cannot."""

    signatures: tuple[Signature, ...]
    notes: tuple[str, ...]


def find_callable(workspace: Workspace, snippet: Snippet) -> Entries:
    """Return the entries of a snippet as they are called.

    A rival in a language that no toolchain of the grid takes here is left out.
    """
    known = known_functions(workspace, snippet)
    compiled = {u.source for b in workspace.compile([snippet.name]) for u in b.units}
    lacking = [source for source in snippet.sources if source not in compiled]
    names = {name for s in known for name in (s.name, s.symbol)}
    absent = [entry for entry in snippet.entries if lacking and entry not in names]
    wanted = [entry for entry in snippet.entries if entry not in absent]
    notes: tuple[str, ...] = ()
    if absent:
        why = f"no compiler of the grid is here for {listed(lacking)}"
        notes = (f"{listed(absent)}: left out: {why}.",)
    if absent and not wanted:
        raise RequestError(f"{workspace.bench.file}: snippet {snippet.name}: {notes[0]}")
    found = find_entries(wanted, known, snippet.sources)
    if snippet.driver:
        own = snippet._replace(sources=(snippet.driver,), driver="")
        builds = [_driver_build(build) for build in workspace.plan.of[snippet.name]]
        functions = known_functions(workspace, own, builds)
        found = through_driver(found, functions, f"{workspace.bench.file}: {snippet.driver}")
    return Entries(found, notes)


def entries_there(
    workspace: Workspace, built: Built, signatures: Sequence[Signature]
) -> tuple[Signature | None, ...] | str:
    """Return the entries as a build for another machine has them.

    Or why they cannot be called with the reference's values.
    """
    chain = workspace.toolchain(built.build)
    family = workspace.family(chain)
    own = read_interface(built.snippet, built.build, chain, family, workspace.store)
    by_symbol = {signature.symbol: signature for signature in own}
    found = [by_symbol.get(signature.symbol) for signature in signatures]
    for signature, there in zip(signatures, found, strict=True):
        why = differs_in(signature, there) if there else ""
        if why:
            return f"{signature.name}: {why} under {chain.target}"
    return tuple(found)


@usecase
def functions_of(workspace: Workspace, snippet: str) -> tuple[Signature, ...]:
    """Return how to call every function of a snippet that others can call."""
    (found,) = find_snippets(workspace.bench, [snippet])
    return known_functions(workspace, found)


def known_functions(
    workspace: Workspace, snippet: Snippet, builds: Sequence[Build] = ()
) -> tuple[Signature, ...]:
    """Return how to call every function of the snippet that others can call."""
    usable = list(builds)
    if not usable:
        compiled = workspace.compile([snippet.name])
        usable = [b.build for b in compiled if b.status == COMPILED]
        if not usable:
            raise RequestError(
                f"{workspace.bench.file}: snippet {snippet.name} compiles under no build. "
                f"{_first_refusal(compiled, snippet)}"
            )
    # The reference first; what it has no compiler for, from the first build that has.
    order = sorted(usable, key=lambda build: build != workspace.plan.reference)
    out: dict[str, Signature] = {}
    languages: set[str] = {"cuda"}  # kernels are read from their declarations
    for build in order:
        chain = workspace.toolchain(build)
        if set(snippet.languages) & set(chain.drivers) <= languages:
            continue
        languages |= set(chain.drivers)
        family = workspace.family(chain)
        for signature in read_interface(snippet, build, chain, family, workspace.store):
            out.setdefault(signature.symbol, signature)
    return tuple(out.values())


def lasting_variables(workspace: Workspace, snippet: Snippet) -> tuple[Variable, ...]:
    """Return the variables of a snippet's sources that live as long as the program."""
    out: dict[str, Variable] = {}
    for build in workspace.plan.of[snippet.name]:
        chain = workspace.toolchain(build)
        if not set(snippet.languages) & set(chain.drivers) or not chain.can["run"]:
            continue
        family = workspace.family(chain)
        for variable in read_lasting(snippet, build, chain, family, workspace.store):
            out.setdefault(variable.symbol, variable)
        if set(snippet.languages) <= set(chain.drivers):
            break
    return tuple(out.values())


def _first_refusal(compiled: Sequence[Built], snippet: Snippet) -> str:
    if compiled:
        return f"{compiled[0].build.name} says: {compiled[0].why}"
    return f"No toolchain of the grid takes {listed(snippet.languages)}."


def _driver_build(build: Build) -> Build:
    flags = (*DRIVER_FLAGS, f"-I{NATIVE}")
    return Build(build.toolchain, "driver", flags)


def compile_drivers(
    workspace: Workspace, snippet: Snippet, builds: Sequence[Built]
) -> Mapping[str, Built]:
    """Return a snippet's driver as each toolchain of its builds compiles it."""
    own = snippet._replace(sources=(snippet.driver,), driver="")
    wanted = dict.fromkeys(_driver_build(built.build) for built in builds)
    made = workspace.compile_apart([(own, build) for build in wanted])
    for built in made:
        if built.status != COMPILED:
            raise RequestError(
                f"{workspace.bench.file}: snippet {snippet.name}: the driver {snippet.driver} does "
                f"not compile under {built.build.toolchain}: {built.why}"
            )
    return {built.build.toolchain: built for built in made}
