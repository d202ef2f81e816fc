"""The same question on every class of machines of a fleet, and what holds over all of them."""

from collections.abc import Callable, Mapping, Sequence
from threading import Lock
from typing import Any

from hot_anvil.core.arch import isa_name
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.fleet.machines import MachineClass, machine_classes, needs_of_code
from hot_anvil.core.fleet.results import (
    Compiled,
    OnClass,
    OnFleet,
    choices_of,
    differing_verdicts,
)
from hot_anvil.core.model.call_graph import reached
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.toolchain.records import OnMachine, Toolchain
from hot_anvil.core.verify.results import Checked
from hot_anvil.errors import AnvilError, RequestError
from hot_anvil.system.fleet.class_executor import ClassExecutor
from hot_anvil.system.fleet.engine import Fleet
from hot_anvil.system.fleet.spreading import Spread
from hot_anvil.system.fleet.this_machine import content_of, this_machine
from hot_anvil.system.process.progress import Progress
from hot_anvil.system.process.threads import thread_pool
from hot_anvil.system.toolchain.finding import Found
from hot_anvil.workspace import Workspace, usecase

Question = Callable[[Workspace], Sequence[Any]]


def fleet_classes(fleet: Fleet) -> tuple[MachineClass, ...]:
    """Return the classes of the machines that a fleet's usable workers are on."""
    machines = {w.machine.identity: w.machine for w in fleet.workers.values()}
    order = sorted(machines.values(), key=lambda m: (m.processor, m.system, m.name))
    return machine_classes(order)


def with_fleet_toolchains(found: Found, fleet: Fleet) -> Found:
    """Return the toolchains of this machine, and those that only machines of a fleet have.

    These make code for this machine's instruction set; one that is another under the same name
    has its machine's name behind it.
    """
    here = {content_of(chain) for chain in found.toolchains if not chain.flags}
    taken = {name for chain in found.toolchains for name in (chain.name, *chain.aliases)}
    out = list(found.toolchains)
    isa = isa_name(this_machine().architecture)
    for worker in fleet.workers.values():
        contents = {c.name: c.content for c in worker.machine.compilers}
        for chain in worker.toolchains:
            content = contents.get(chain.name, "")
            if not content or content in here or not chain.can["run"] or chain.isa != isa:
                continue
            here.add(content)
            name = chain.name if chain.name not in taken else f"{chain.name}+{worker.machine.name}"
            taken.add(name)
            where = OnMachine(worker.machine.name, content)
            out.append(_elsewhere(chain, name, where))
    return found._replace(toolchains=tuple(out))


def _elsewhere(chain: Toolchain, name: str, where: OnMachine) -> Toolchain:
    drivers = {
        language: driver._replace(identity=f"{where.content} {language}")
        for language, driver in chain.drivers.items()
    }
    return chain._replace(name=name, aliases=(), drivers=drivers, machines=(where,))


@usecase
def ask_fleet(
    workspace: Workspace,
    fleet: Fleet,
    command: str,
    question: Question,
    weights: Mapping[str, float],
    snippets: Sequence[str] = (),
    check_here: Question | None = None,
) -> OnFleet:
    """Ask a question on each class, side by side; ``check_here`` is answered here before.

    It is about ``snippets``, all where none is named.

    What a class cannot answer is missing, and said; raises its error where none can.
    """
    classes = fleet_classes(fleet)
    for name in weights:
        if name not in (one.name for one in classes):
            known = [one.name for one in classes]
            hint = did_you_mean(name, known) or f" They are: {listed(known)}."
            raise RequestError(f"the fleet has no class '{name}'.{hint}", about="weights")
    here: tuple[Checked, ...] = ()
    if check_here:
        workspace.compile(snippets)
        here = tuple(check_here(workspace))
    needs = _Needs(workspace)
    lock = Lock()

    def progress(what: str, done: int, total: int) -> None:
        with lock:
            workspace.progress(what, done, total)

    def ask(own: MachineClass) -> OnClass | AnvilError:
        known = {one.snippet.name: one for one in here if not one.fault}
        executor = ClassExecutor(fleet, own, workspace.store, needs, known)
        if not executor.count:
            return OnClass(own, (), (), (), "no worker there offers 'measure'")
        there = workspace._replace(executor=executor, progress=_named(progress, own.name))
        try:
            results = tuple(question(there))
        except AnvilError as error:
            return error
        return OnClass(own, tuple(executor.worked), results, tuple(executor.notes))

    with thread_pool(len(classes)) as pool:
        answers = list(pool.map(ask, classes))
    failed = [answer for answer in answers if isinstance(answer, AnvilError)]
    if len(failed) == len(answers):
        raise failed[0]
    found = tuple(
        OnClass(own, (), (), (), str(answer)) if isinstance(answer, AnvilError) else answer
        for own, answer in zip(classes, answers, strict=True)
    )
    return OnFleet(
        command, found, here, choices_of(found, weights), differing_verdicts(here, found),
        compiled_of(workspace), fleet.unusable,
    )  # fmt: skip


def _named(progress: Progress, name: str) -> Progress:
    return lambda what, done, total: progress(f"{name}: {what}", done, total)


def compiled_of(workspace: Workspace) -> Compiled | None:
    """Return where a workspace's units were compiled just now, None without a fleet."""
    spread = workspace.spread
    if not isinstance(spread, Spread):
        return None
    return Compiled(spread.there, spread.here, dict(spread.whys))


class _Needs:
    """What the code that a build's entries reach needs of a processor, worked out once."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._known: dict[tuple[str, ...], frozenset[str]] = {}

    def __call__(self, built: Built, symbols: tuple[str, ...]) -> frozenset[str]:
        key = *(unit.artefact for unit in built.all_units), *symbols
        if key not in self._known:
            self._known[key] = frozenset()
            if built.status == COMPILED:
                code = self._workspace.code(built)
                parts = [f for symbol in symbols for f in reached(code, symbol)]
                self._known[key] = needs_of_code(parts or code.functions, code.isa)
        return self._known[key]
