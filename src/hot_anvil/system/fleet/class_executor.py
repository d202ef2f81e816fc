"""Machines of one class, which check and measure in place of this one."""

import random
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from hot_anvil.core.build.records import Built
from hot_anvil.core.config.records import Bench
from hot_anvil.core.fleet.blocks import join_blocks
from hot_anvil.core.fleet.machines import MEASURE, MachineClass, cannot_run
from hot_anvil.core.inputs.spec import sweep_points
from hot_anvil.core.measure.measurements import Measurements
from hot_anvil.core.measure.options import Options
from hot_anvil.core.names import listed
from hot_anvil.core.verify.crash_report import Place
from hot_anvil.core.verify.options import CheckOptions
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.undefined import with_accepted, with_undefined
from hot_anvil.core.verify.verdicts import NOT_RUN, REFUSED, Verdict
from hot_anvil.errors import FaultError, MissingError
from hot_anvil.system.build.linking import Program
from hot_anvil.system.check.checking import read_files
from hot_anvil.system.check.plan import CheckPlan, Known
from hot_anvil.system.fleet.engine import Fleet, Reply, Task
from hot_anvil.system.fleet.laying_out import launcher_of
from hot_anvil.system.fleet.requests import Failed, Given, artefact_name, artefacts_of
from hot_anvil.system.fleet.runs import (
    Block,
    Check,
    CheckPrograms,
    EndedThere,
    Measure,
    MeasurePrograms,
    RunGiven,
)
from hot_anvil.system.measure.measuring import Linked
from hot_anvil.system.measure.program_times import Field
from hot_anvil.system.measure.rounds import ContestantEnded
from hot_anvil.system.process.scope import current_scope
from hot_anvil.system.store.store import Store

_CHECK_SECONDS = 600.0  # that a check may take beside what its calls may
_LOAD = "load "  # how the note on it begins
_SLACK = 5.0  # times as long as asked that a measurement may take
NeedsOf = Callable[[Built, tuple[str, ...]], frozenset[str]]  # symbols of entries, () for all


class ClassExecutor:
    """Checks and measures on the machines of one class.

    ``needs_of`` tells what a build needs of a processor; ``known`` is the check here of each
    snippet, by name: only the comparison is made there, what helps to mend a fault is found here.
    """

    def __init__(
        self,
        fleet: Fleet,
        own: MachineClass,
        store: Store,
        needs_of: NeedsOf,
        known: Mapping[str, Checked],
    ) -> None:
        self.fleet, self.machines, self.store, self.needs_of = fleet, own, store, needs_of
        self.known = known
        self.notes: dict[str, None] = {}
        self.worked: dict[str, None] = {}  # names of the machines that did
        names = {machine.identity for machine in own.machines}
        by_machine: dict[str, list[str]] = {}
        for address in fleet.offering(MEASURE):
            identity = fleet.machine(address).identity
            if identity in names:
                by_machine.setdefault(identity, []).append(address)
        self._workers = by_machine

    @property
    def identity(self) -> tuple[str, str]:
        """The class and what it is in words, as measurements are kept under."""
        return self.machines.name, self.machines.text

    @property
    def count(self) -> int:
        """How many of the machines have a worker that offers to measure."""
        return len(self._workers)

    def check(self, plan: CheckPlan, checked: Checked) -> Checked:
        """Return the verdicts that candidates have there, beside what was found out here."""
        refused = self._refused(plan.builds, tuple(s.symbol for s in plan.signatures))
        able = {b: p for b, p in plan.programs.items() if self._goes(p, b, refused)}
        builds = tuple(b for b in plan.builds if b.build.name in able)
        paths = [program.path for program in able.values()]
        files = read_files(plan.bench, plan.snippet)
        request = Check(
            self._given(files, paths), plan.bench, plan.snippet, plan.reference_build,
            plan.signatures, builds, able, plan.threaded, plan.variables, plan.constants,
            plan.promises, Known(checked.undefined, checked.excused),
            plan.options._replace(values=False, draw=0),
        )  # fmt: skip
        return self._compared(checked, request, able, refused, plan.builds)

    def check_programs(
        self,
        checked: Checked,
        builds: Sequence[Built],
        programs: Mapping[str, Program],
        runs: Sequence[RunGiven],
        options: CheckOptions,
    ) -> Checked:
        """Return the verdicts that whole programs have there."""
        refused = self._refused(builds, ())
        able = {b: p for b, p in programs.items() if self._goes(p, b, refused)}
        own = tuple(b for b in builds if b.build.name in able)
        request = CheckPrograms(
            self._given({}, [p.path for p in able.values()]), checked.snippet, checked.reference,
            own, able, tuple(runs), options._replace(values=False, draw=0),
        )  # fmt: skip
        return self._compared(checked, request, able, refused, builds)

    def _goes(self, program: Program, build: str, refused: Mapping[str, str]) -> bool:
        there = bool(artefact_name(program.path, self.store)) and not program.there
        return not program.why and there and build not in refused

    def _compared(
        self,
        checked: Checked,
        request: Check | CheckPrograms,
        able: Mapping[str, Program],
        refused: Mapping[str, str],
        builds: Iterable[Built],
    ) -> Checked:
        """Ask for verdicts, unless the reference cannot run there."""
        found: Mapping[str, Verdict] = {}
        if request.reference_build in able:
            found = self._verdicts(request)
        else:
            name = request.reference_build
            self.notes.setdefault(f"the reference {name} cannot run there: nothing is compared")
        return self._beside(checked, found, refused, builds)

    def _refused(self, builds: Iterable[Built], symbols: tuple[str, ...]) -> dict[str, str]:
        """Return the builds that these machines cannot run, and why, as their features tell."""
        machine = self.machines.machines[0]
        whys = {b.build.name: cannot_run(self.needs_of(b, symbols), machine) for b in builds}
        return {name: why for name, why in whys.items() if why}

    def _verdicts(self, request: Check | CheckPrograms) -> dict[str, Verdict]:
        options = request.options
        calls = len(request.builds) * options.call_seconds * max(options.repeat, 2)
        workers = tuple(w for own in self._workers.values() for w in own)
        label = f"checking {request.snippet.name}"
        task = Task(request, workers, MEASURE, _CHECK_SECONDS + calls, label)
        (reply,) = self.fleet.run([task])
        answer = self._answer(reply, label)
        return {v.candidate: v for v in answer.verdicts}

    def _answer(self, reply: Reply, label: str) -> Any:
        if isinstance(reply.answer, Failed):
            kind = FaultError if reply.answer.ours else MissingError
            raise kind(f"{self.machines.name}: {label}: {reply.answer.why.strip()}.")
        self.worked.setdefault(self.fleet.machine(reply.worker).name)
        return reply.answer

    def _beside(
        self,
        checked: Checked,
        found: Mapping[str, Verdict],
        refused: Mapping[str, str],
        builds: Iterable[Built],
    ) -> Checked:
        """Return the verdicts of there, with what is known here of those that are the same."""
        flags = {built.build.name: built.build.flags for built in builds}
        there = with_undefined(found.values(), checked.undefined, flags)
        there_by = {v.candidate: v for v in with_accepted(there, checked.snippet.accept)}
        out = []
        for own in checked.verdicts:
            other = there_by.get(own.candidate)
            if own.build in refused:
                own = own._replace(verdict=NOT_RUN, why=refused[own.build])
            elif other is not None and other.verdict != own.verdict:
                own = other._replace(place=self._as_here(other.place))
            elif other is None and own.verdict != REFUSED and not own.emulator:
                own = own._replace(verdict=NOT_RUN, why=own.why or "it was not run there")
            out.append(own)
        return checked._replace(verdicts=tuple(out))

    def _as_here(self, place: Place) -> Place:
        """Return a place with its file named as the bench names it."""
        return place._replace(file=place.file.removeprefix(f"{self.store.root}/"))

    def measure(
        self,
        bench: Bench,
        checked: Checked,
        linked: Linked,
        baseline: str,
        options: Options,
        only_best: bool,
        watched: Sequence[tuple[str, str]],
    ) -> tuple[list[Measurements], str]:
        """Measure on all machines of the class, a block each; as ``measure_snippet`` does here."""
        images = [*linked.programs.values(), *linked.libraries.values()]
        paths = [one.path for own in images for one in own.values()]
        given = self._given(read_files(bench, checked.snippet), [*paths, linked.loader])
        candidates = max(len(checked.timed), 1) * max(len(sweep_points(checked.snippet)), 1)

        def block(share: int, seed: int) -> Measure:
            own = options._replace(seconds=options.seconds / share, seed=seed)
            slim = checked._replace(sets=(), fault=None)
            return Measure(given, bench, slim, linked, baseline, own, only_best, tuple(watched))

        return self._blocks(checked, block, options.seconds * candidates, options)

    def measure_programs(
        self,
        checked: Checked,
        field: Field,
        needs: Sequence[Mapping[str, bytes]],
        wanted: str | None,
        seconds: float,
        options: Options,
    ) -> list[Measurements]:
        """Measure whole programs, a block on each machine; as ``measure_programs`` does here."""
        given = self._given({}, [*field.paths.values(), field.loader])
        plain = field._replace(runs=[run._replace(needs={}) for run in field.runs])

        def block(share: int, seed: int) -> MeasurePrograms:
            return MeasurePrograms(
                given, plain, tuple(needs), wanted, seconds / share, seed, field.cpu < 0
            )

        return self._blocks(checked, block, seconds, options)[0]

    def _blocks(
        self,
        checked: Checked,
        block: Callable[[int, int], Any],
        seconds: float,
        options: Options,
    ) -> tuple[list[Measurements], str]:
        """Ask each machine for its block; a block is another's where its own machine is lost."""
        share = len(self._workers)
        chance = random.Random(options.seed)
        every = [w for own in self._workers.values() for w in own]
        label = f"measuring {checked.snippet.name}"
        tasks = []
        for own in self._workers.values():
            request = block(share, chance.randrange(1 << 31))
            tasks.append(Task(request, tuple(own), MEASURE, _SLACK * seconds + 300, label))
        replies = self.fleet.run(tasks)
        lost = [k for k, reply in enumerate(replies) if isinstance(reply.answer, Failed)]
        if lost and len(lost) < len(replies):  # the others measure it
            rest = tuple(w for w in every if w in {r.worker for r in replies})
            again = self.fleet.run([tasks[k]._replace(workers=rest) for k in lost])
            for k, reply in zip(lost, again, strict=True):
                replies[k] = reply
        answers = [self._answer(reply, label) for reply in replies]
        for answer in answers:
            if isinstance(answer, EndedThere):
                raise ContestantEnded(answer.candidate, answer.kind, _bare(answer.why))
        blocks = [answer for answer in answers if isinstance(answer, Block)]
        for one in blocks:
            # How busy a machine was is told once: the others' blocks say about the same.
            told = any(note.startswith(_LOAD) for note in self.notes)
            more = (note for note in one.notes if not (told and note.startswith(_LOAD)))
            self.notes |= dict.fromkeys(more)
        joined, left_out = join_blocks([one.measurements for one in blocks])
        if left_out:
            names = [self.fleet.machine(replies[k].worker).name for k in left_out]
            self.notes.setdefault(
                f"{checked.snippet.name}: what {listed(names)} measured was by another clock, or "
                "of other candidates, and is left out"
            )
        return joined, blocks[0].anchor

    def _given(self, files: Mapping[str, bytes], paths: Sequence[str]) -> Given:
        scope = current_scope()
        held = scope.confinement()
        made = artefacts_of([*paths, held.launcher], self.store)
        inside = {name: data for name, data in files.items() if not Path(name).is_absolute()}
        return Given(self.store.root, inside, made, launcher_of(held), scope.limits)


def _bare(why: str) -> str:
    return why.removeprefix("while it was timed: ")
