"""The same question on every class of machines of a fleet, and what holds over all of them."""

import os
from collections.abc import Callable, Mapping, Sequence
from threading import Lock
from typing import Any

from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.fleet.machines import (
    Machine,
    MachineClass,
    cannot_run,
    must_be_classes,
    needs_of_code,
)
from hot_anvil.core.fleet.results import (
    OnClass,
    OnFleet,
    choices_of,
    differing_verdicts,
)
from hot_anvil.core.model.call_graph import reached
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import CRASHED, NOT_RUN
from hot_anvil.errors import AnvilError, MissingError
from hot_anvil.system.fleet.class_executor import ClassExecutor, NeedsOf
from hot_anvil.system.fleet.engine import Fleet
from hot_anvil.system.fleet.this_machine import this_machine
from hot_anvil.system.process.progress import Progress
from hot_anvil.system.process.threads import thread_pool
from hot_anvil.usecases.fleet_machines import compiled_of, fleet_classes
from hot_anvil.workspace import Workspace, usecase

Question = Callable[[Workspace], Sequence[Any]]


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
    must_be_classes(weights, [one.name for one in classes])
    here: tuple[Checked, ...] = ()
    needs = _Needs(workspace)
    if check_here:
        workspace.compile(snippets)
        own = this_machine(compilers=False)
        here = tuple(able_here(one, workspace, needs, own) for one in check_here(workspace))
    lock = Lock()

    def progress(what: str, done: int, total: int) -> None:
        with lock:
            workspace.progress(what, done, total)

    def ask(own: MachineClass) -> OnClass | AnvilError:
        known = {one.snippet.name: one for one in here if not one.fault}
        executor = ClassExecutor(fleet, own, workspace.store, needs, known)
        lacking = _lacking(own, executor)
        if lacking:
            return OnClass(own, (), (), (), lacking)
        there = workspace._replace(executor=executor, progress=_named(progress, own.name))
        try:
            results = tuple(question(there))
        except AnvilError as error:
            return error
        return OnClass(own, tuple(executor.worked), results, tuple(executor.notes))

    with thread_pool(len(classes)) as pool:
        answers = list(pool.map(ask, classes))
    failed = [answer for answer in answers if isinstance(answer, AnvilError) or answer.missing]
    if len(failed) == len(answers):
        first = failed[0]
        raise first if isinstance(first, AnvilError) else MissingError(_told(first))
    found = tuple(
        OnClass(own, (), (), (), str(answer)) if isinstance(answer, AnvilError) else answer
        for own, answer in zip(classes, answers, strict=True)
    )
    return OnFleet(
        command, found, here, choices_of(found, weights), differing_verdicts(here, found),
        compiled_of(workspace), fleet.unusable,
    )  # fmt: skip


def able_here(checked: Checked, workspace: Workspace, needs: NeedsOf, own: Machine) -> Checked:
    """Return a check in which what crashed for want of a feature here did not run here.

    That such code is right on a machine which has the feature is no fault of anything.
    """
    symbols = tuple(s.symbol for s in checked.signatures)
    crashed = {v.build for v in checked.verdicts if v.verdict == CRASHED}
    builts = workspace.compile([checked.snippet.name]) if crashed else ()
    whys = {b.build.name: cannot_run(needs(b, symbols), own) for b in builts}
    return checked._replace(
        verdicts=tuple(
            v._replace(verdict=NOT_RUN, why=whys[v.build])
            if v.verdict == CRASHED and whys[v.build]
            else v
            for v in checked.verdicts
        )
    )


def _lacking(own: MachineClass, executor: ClassExecutor) -> str:
    """Return why a class cannot be asked at all, "" where it can."""
    there, here = own.machines[0].architecture, os.uname().machine
    if there != here:
        return f"what is built here is for {here}, and its machines are {there}"
    if not executor.count:
        return "no worker there offers 'measure' (--resources \"measure=1\")"
    return ""


def _told(one: OnClass) -> str:
    return f"{one.own.name}: {one.missing}."


def _named(progress: Progress, name: str) -> Progress:
    return lambda what, done, total: progress(f"{name}: {what}", done, total)


class _Needs:
    """What the code that a build's entries reach needs of a processor, worked out once."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._known: dict[tuple[str, ...], frozenset[str]] = {}

    def __call__(self, built: Built, symbols: tuple[str, ...]) -> frozenset[str]:
        key = *(unit.artefact for unit in built.all_units), *symbols
        if built.status != COMPILED:
            return frozenset()
        if key not in self._known:
            code = self._workspace.code(built)
            parts = [f for symbol in symbols for f in reached(code, symbol)]
            self._known[key] = needs_of_code(parts or code.functions, code.isa)
        return self._known[key]
