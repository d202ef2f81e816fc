"""What this machine runs for another: checks, and blocks of measurements."""

import random
from collections.abc import Mapping
from functools import singledispatch
from pathlib import Path
from typing import Any

from hot_anvil.core.build.records import Built
from hot_anvil.core.verify.verdicts import Verdict
from hot_anvil.system.build.linking import Program
from hot_anvil.system.check.checking import check_snippet, verdict_of
from hot_anvil.system.check.plan import (
    CheckPlan,
    Evaluated,
    Experiments,
    Oracle,
    Sanitized,
    Variant,
)
from hot_anvil.system.check.reaching import Instrumented
from hot_anvil.system.execute.calls import PreparedInputs
from hot_anvil.system.fleet.laying_out import laid_out
from hot_anvil.system.fleet.requests import moved
from hot_anvil.system.fleet.runs import (
    Block,
    Check,
    CheckPrograms,
    EndedThere,
    Measure,
    MeasurePrograms,
    Verdicts,
    moved_programs,
)
from hot_anvil.system.measure.machine import environment_notes
from hot_anvil.system.measure.measuring import Linked, measure_snippet, quietest_cpu
from hot_anvil.system.measure.program_times import measure_programs
from hot_anvil.system.measure.rounds import ContestantEnded
from hot_anvil.system.process.progress import no_progress
from hot_anvil.system.store.store import Store
from hot_anvil.usecases.programs import Given as GivenRun
from hot_anvil.usecases.programs import judge_programs

_NOT_THERE = Sanitized("", Program("", "it is looked for where the question is asked", ""))


@singledispatch
def serve_run(request: Any) -> Any:
    """Run what a request asks for, and return what it answers."""
    raise TypeError(f"{type(request).__name__} is no request")


@serve_run.register
def _check(request: Check) -> Verdicts:
    with laid_out(request.given) as store:
        names = tuple(request.given.artefacts)
        plan = CheckPlan(
            request.bench._replace(root=store.root),
            request.snippet,
            request.reference_build,
            request.signatures,
            request.builds,
            moved_programs(request.programs, names, store),
            _NOT_THERE,
            lambda: (),
            lambda: _NOT_THERE,
            lambda: _NOT_THERE,
            lambda: _NOT_THERE,
            lambda: Instrumented(_NOT_THERE.program, {}),
            Experiments(_no_variant, lambda built: (), lambda built: ""),
            "",
            request.threaded,
            "",
            store,
            request.options,
            no_progress,
            request.variables,
            request.constants,
            request.promises,
            request.known,
        )
        return Verdicts(check_snippet(plan, _plain_verdict).verdicts)


def _no_variant(built: Built, variant: Variant) -> Program:
    return _NOT_THERE.program


def _plain_verdict(
    plan: CheckPlan, ready: PreparedInputs, oracle: Oracle, evaluated: Evaluated
) -> Verdict:
    """Return a verdict as it is: what helps to mend it is found where the sources are."""
    return verdict_of(plan, ready, evaluated)


@serve_run.register
def _check_programs(request: CheckPrograms) -> Verdicts:
    with laid_out(request.given) as store:
        programs = moved_programs(request.programs, tuple(request.given.artefacts), store)
        given = [
            GivenRun(one.run, one.label, one.stdin, _files(one.needs, store, k), one.expected)
            for k, one in enumerate(request.runs)
        ]
        found = judge_programs(
            store.root, request.snippet, request.builds, programs, given,
            request.reference_build, request.options, store,
        )  # fmt: skip
        return Verdicts(found)


def _files(needs: Mapping[str, bytes], store: Store, number: int) -> dict[str, Path]:
    """Lay out the files that a run needs; return where."""
    folder = Path(store.root, ".needs", str(number))
    places = {}
    for name, data in needs.items():
        places[name] = folder / name
        places[name].parent.mkdir(parents=True, exist_ok=True)
        places[name].write_bytes(data)
    return places


@serve_run.register
def _measure(request: Measure) -> Block | EndedThere:
    with laid_out(request.given) as store:
        names = tuple(request.given.artefacts)
        linked = request.linked
        there = Linked(
            _images(linked.programs, names, store),
            _images(linked.libraries, names, store),
            moved(linked.loader, names, store),
            linked.aligned,
        )
        notes = environment_notes()
        try:
            found, anchor = measure_snippet(
                request.bench._replace(root=store.root), request.checked, there,
                request.baseline, request.options, request.only_best, no_progress, request.watched,
            )  # fmt: skip
        except ContestantEnded as ended:
            return EndedThere(ended.candidate, ended.kind, ended.why)
        return Block(tuple(found), anchor, notes)


def _images(
    images: Mapping[str, Mapping[int, Program]], names: tuple[str, ...], store: Store
) -> dict[str, dict[int, Program]]:
    return {
        build: {at: one._replace(path=moved(one.path, names, store)) for at, one in own.items()}
        for build, own in images.items()
    }


@serve_run.register
def _measure_programs(request: MeasurePrograms) -> Block | EndedThere:
    with laid_out(request.given) as store:
        names = tuple(request.given.artefacts)
        field = request.field
        loader = moved(field.loader, names, store)
        runs = [
            run._replace(needs=_files(needs, store, number))
            for number, (run, needs) in enumerate(zip(field.runs, request.needs, strict=True))
        ]
        there = field._replace(
            paths={name: moved(path, names, store) for name, path in field.paths.items()},
            runs=runs,
            loader=loader,
            cpu=-1 if request.threaded else quietest_cpu(loader),
        )
        notes, chance = environment_notes(), random.Random(request.seed)
        try:
            found = measure_programs(there, request.wanted, request.seconds, chance, no_progress)
        except ContestantEnded as ended:
            return EndedThere(ended.candidate, ended.kind, ended.why)
        return Block(tuple(found), "", notes)
