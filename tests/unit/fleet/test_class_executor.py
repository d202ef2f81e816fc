"""A class of machines in place of this one: real requests, really served, over no network."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import pytest

from hot_anvil.api import open_source
from hot_anvil.core.fleet.machines import MEASURE, Machine, machine_classes
from hot_anvil.core.fleet.results import OnClass, differing_verdicts
from hot_anvil.core.measure.options import Options
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import CORRECT, CRASHED, NOT_RUN, WRONG
from hot_anvil.errors import FaultError, MissingError
from hot_anvil.system.fleet.class_executor import ClassExecutor
from hot_anvil.system.fleet.engine import Reply, Task
from hot_anvil.system.fleet.requests import Failed, from_bytes, to_bytes
from hot_anvil.system.fleet.runs import EndedThere, Measure, Verdicts
from hot_anvil.usecases.measurement import measure_checked
from hot_anvil.usecases.on_fleet import able_here
from hot_anvil.usecases.serving import serve
from hot_anvil.usecases.verification import check_snippets
from hot_anvil.workspace import Workspace

SOURCE = """
int surge(const int *levels, int n) { int s = 0; for (int k = 0; k < n; k++) s += levels[k] & 7;
return s; }
"""
INPUTS = ['levels = { fill = "uniform(-9, 9)", count = "n" }', 'n = "n"']
FEATURES = frozenset("fpu sse2 avx avx2".split())


def machine(name: str) -> Machine:
    return Machine(name, name, "Pier 9", "x86_64", FEATURES, 2, 1 << 30, "Debian 12", 0.0)


class ServedHere:
    """Stands for a fleet of two machines: requests are served in this process, as bytes."""

    def __init__(self, change: Callable[[Task, Any, int], Any]) -> None:
        self.change, self.count = change, 0
        self.machines = {f"tcp://{n}": machine(n) for n in ("pier1", "pier2")}
        self.asked: list[Task] = []

    def offering(self, resource: str) -> tuple[str, ...]:
        return tuple(self.machines) if resource == MEASURE else ()

    def machine(self, address: str) -> Machine:
        return self.machines[address]

    def run(self, tasks: Sequence[Task]) -> list[Reply]:
        replies = []
        for task in tasks:
            self.asked.append(task)
            request = from_bytes(to_bytes(task.request))
            answer = self.change(task, from_bytes(to_bytes(serve(request))), self.count)
            self.count += 1
            worker = "" if isinstance(answer, Failed) else task.workers[0]
            replies.append(Reply(answer, worker))
        return replies


@pytest.fixture
def workspace(tmp_path: Path) -> Workspace:
    source = tmp_path / "surge.c"
    source.write_text(SOURCE)
    builds = ["gcc -O0", "gcc -O2", "gcc -O3 -march=x86-64-v3"]
    return open_source(source, builds, [], INPUTS, ["n = [64]"]).workspace


def there(workspace: Workspace, fleet: Any, needs: frozenset[str] = frozenset()) -> Workspace:
    (own,) = machine_classes(fleet.machines.values())
    known = {one.snippet.name: one for one in check_snippets(workspace)}

    def needs_of(built: Any, symbols: tuple[str, ...]) -> frozenset[str]:
        assert symbols == ("surge",)
        return needs if "-march=x86-64-v3" in built.build.flags else frozenset()

    executor = ClassExecutor(fleet, own, workspace.store, needs_of, known)
    return workspace._replace(executor=executor)


def checked_there(workspace: Workspace, fleet: Any, needs: frozenset[str] = frozenset()) -> Checked:
    (checked,) = check_snippets(there(workspace, fleet, needs))
    return checked


def same(task: Task, answer: Any, number: int) -> Any:
    return answer


def test_verdicts_there_are_those_of_there(workspace: Workspace) -> None:
    (here,) = check_snippets(workspace)
    found = checked_there(workspace, ServedHere(same))
    assert [v.verdict for v in found.verdicts] == [CORRECT] * 3

    def one_wrong(task: Task, answer: Verdicts, number: int) -> Verdicts:
        bad = {"gcc-12 -O2": (WRONG, "it returns 7, not 9")}
        return Verdicts(tuple(
            v._replace(verdict=bad[v.build][0], why=bad[v.build][1]) if v.build in bad else v
            for v in answer.verdicts
        ))  # fmt: skip

    found = checked_there(workspace, ServedHere(one_wrong))
    assert [v.verdict for v in found.verdicts] == [CORRECT, WRONG, CORRECT]
    (own,) = machine_classes([machine("pier1")])
    (one,) = differing_verdicts([here], [OnClass(own, ("pier1",), (found,), ())])
    assert dict(one.verdicts) == {"here": CORRECT, "pier-9": WRONG}
    assert one.why == "it returns 7, not 9"


def test_what_a_processor_lacks_is_told_before_it_is_tried(workspace: Workspace) -> None:
    fleet = ServedHere(same)
    found = checked_there(workspace, fleet, frozenset({"avx512f"}))
    assert [v.verdict for v in found.verdicts] == [CORRECT, CORRECT, NOT_RUN]
    assert found.verdicts[2].why == "it needs avx512f, and Pier 9 has not"
    assert len(fleet.asked[0].request.programs) == 2  # it was not even sent
    assert not checked_there(workspace, ServedHere(same), frozenset({"avx2"})).verdicts[2].why


def test_nothing_is_said_of_candidates_where_the_reference_cannot_run(workspace: Workspace) -> None:
    reference = workspace.plan.reference.name
    fleet = ServedHere(same)
    own = there(workspace, fleet)
    assert own.executor
    needs = frozenset({"crane"})
    own.executor.needs_of = lambda built, symbols: (
        needs if built.build.name == reference else frozenset()
    )
    (found,) = check_snippets(own)
    assert {v.verdict for v in found.verdicts} == {NOT_RUN} and not fleet.asked
    assert any("the reference" in note for note in own.executor.notes)


def test_a_lost_block_is_measured_by_the_others(workspace: Workspace) -> None:
    def first_lost(task: Task, answer: Any, number: int) -> Any:
        lost = isinstance(task.request, Measure) and number == 1
        return Failed("its worker ended") if lost else answer

    fleet = ServedHere(first_lost)
    own = there(workspace, fleet)
    (checked,) = check_snippets(own)
    measured = measure_checked(own, checked, Options(seconds=0.1, seed=7))
    assert own.executor and list(own.executor.worked) == ["pier1", "pier2"]
    blocks = [task for task in fleet.asked if isinstance(task.request, Measure)]
    assert [task.workers[0][-1] for task in blocks] == ["1", "2", "2"]
    seeds = [task.request.options.seed for task in blocks]
    assert seeds[0] == seeds[2] != seeds[1]  # the very block that was lost
    (made,) = measured.measurements
    assert len(made.machines) == 2 and sum(made.machines) == len(made.generations)
    assert measured.overall and set(measured.overall.to_best) == {
        v.candidate for v in checked.timed
    }


def test_what_all_machines_fail_at_is_missing(workspace: Workspace) -> None:
    fleet = ServedHere(lambda task, answer, number: Failed("the disk is full"))
    with pytest.raises(MissingError, match="pier-9: checking surge: the disk is full"):
        checked_there(workspace, fleet)
    ours = ServedHere(lambda task, answer, number: Failed("Traceback", ours=True))
    with pytest.raises(FaultError):
        checked_there(workspace, ours)


def test_a_candidate_that_ends_while_timed_is_out_and_the_rest_measured(
    workspace: Workspace,
) -> None:
    def one_ends(task: Task, answer: Any, number: int) -> Any:
        timed = isinstance(task.request, Measure)
        names = [v.candidate for v in task.request.checked.timed] if timed else []
        ends = any("-O2" in name for name in names)
        ended = EndedThere("gcc-12 -O2", CRASHED, "while it was timed: SIGSEGV")
        return ended if ends else answer

    own = there(workspace, ServedHere(one_ends))
    (checked,) = check_snippets(own)
    measured = measure_checked(own, checked, Options(seconds=0.05, seed=7))
    verdicts = {v.build: v for v in measured.checked.verdicts}
    assert verdicts["gcc-12 -O2"].verdict == CRASHED
    assert verdicts["gcc-12 -O2"].why == "while it was timed: SIGSEGV"
    assert measured.overall and len(measured.overall.to_best) == 2


def test_what_crashes_here_for_want_of_a_feature_is_no_bug_elsewhere(workspace: Workspace) -> None:
    (checked,) = check_snippets(workspace)
    here = checked._replace(
        verdicts=tuple(v._replace(verdict=CRASHED, why="SIGILL") for v in checked.verdicts)
    )

    def needs(built: Any, symbols: tuple[str, ...]) -> frozenset[str]:
        return frozenset({"avx512f"} if "-O3" in built.build.flags else ())

    told = able_here(here, workspace, needs, machine("here"))
    assert [v.verdict for v in told.verdicts] == [CRASHED, CRASHED, NOT_RUN]
    (own,) = machine_classes([machine("pier1")])
    found = differing_verdicts([told], [OnClass(own, ("pier1",), (checked,), ())])
    assert [one.candidate for one in found] == [v.candidate for v in checked.verdicts[:2]]
