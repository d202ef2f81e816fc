"""Measure whole programs: every build's, on each of the snippet's runs."""

import random
from typing import TYPE_CHECKING

from hot_anvil.core.measure.measurements import Contest
from hot_anvil.core.measure.options import How
from hot_anvil.core.measure.results import Checked
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.build.worker_objects import loading_worker
from hot_anvil.system.measure.measuring import quietest_cpu, same_code_groups
from hot_anvil.system.measure.program_times import Field, Run, measure_programs
from hot_anvil.usecases.programs import Given, given_runs, link_program
from hot_anvil.usecases.verification import starts_threads

if TYPE_CHECKING:
    from hot_anvil.api import Workshop


def measure_program(
    workshop: "Workshop", checked: Checked, how: How, only_best: bool, call_seconds: float
) -> tuple[list[Contest], str]:
    """Return a contest for each run of a program, and what stands for the baseline."""
    snippet = checked.snippet
    baseline = workshop.plan.baseline.name
    built = {b.build.name: b for b in workshop.compile([snippet.name])}
    programs = {v.build: link_program(workshop, built[v.build]) for v in checked.correct}
    codes = {name: program.same_code for name, program in programs.items()}
    timed, same_as = same_code_groups(checked.correct, codes, baseline)
    loader = loading_worker(host_toolchain(workshop.found.toolchains), workshop.store)
    paths = {v.candidate: programs[v.build].path for v in timed}
    threaded = any(starts_threads(built[v.build], workshop.store) for v in timed)
    field = Field(
        snippet.name,
        paths,
        [_run(given) for given in given_runs(workshop, snippet)],
        same_as,
        -1 if threaded else quietest_cpu(loader),
        loader,
        call_seconds,
    )
    anchor = same_as.get(baseline, baseline)
    anchor = anchor if anchor in paths else next(iter(paths))
    seconds = how.seconds * len(paths) * len(field.runs)
    chance = random.Random(how.seed)
    wanted = None if only_best else anchor
    return measure_programs(field, wanted, seconds, chance, workshop.progress), anchor


def _run(given: Given) -> Run:
    expected = given.run.expected.get("exit")
    return Run(
        given.label,
        given.run.arguments,
        given.stdin,
        given.needs,
        None if expected is None else int(expected),
    )
