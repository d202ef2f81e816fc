"""Measure whole programs: every build's, on each of the snippet's runs."""

import random

from hot_anvil.core.measure.measurements import Measurements
from hot_anvil.core.measure.options import Options
from hot_anvil.core.verify.results import Checked
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.build.worker_objects import loading_worker
from hot_anvil.system.measure.measuring import quietest_cpu, same_code_groups
from hot_anvil.system.measure.program_times import Field, Run, measure_programs
from hot_anvil.usecases.fault_finders import starts_threads
from hot_anvil.usecases.programs import Given, given_runs, link_program
from hot_anvil.workspace import Workspace


def measure_program(
    workspace: Workspace, checked: Checked, options: Options, only_best: bool, call_seconds: float
) -> tuple[list[Measurements], str]:
    """Return measurements for each run of a program, and what stands for the baseline."""
    snippet = checked.snippet
    baseline = workspace.plan.baseline.name
    built = {b.build.name: b for b in workspace.compile([snippet.name])}
    programs = {v.build: link_program(workspace, built[v.build]) for v in checked.timed}
    codes = {name: program.same_code for name, program in programs.items()}
    timed, same_as = same_code_groups(checked.timed, codes, baseline)
    loader = loading_worker(host_toolchain(workspace.found.toolchains), workspace.store)
    paths = {v.candidate: programs[v.build].path for v in timed}
    threaded = any(starts_threads(built[v.build], workspace.store) for v in timed)
    field = Field(
        snippet.name,
        paths,
        [_run(given) for given in given_runs(workspace, snippet)],
        same_as,
        -1 if threaded else quietest_cpu(loader),
        loader,
        call_seconds,
    )
    anchor = same_as.get(baseline, baseline)
    anchor = anchor if anchor in paths else next(iter(paths))
    seconds = options.seconds * len(paths) * len(field.runs)
    chance = random.Random(options.seed)
    wanted = None if only_best else anchor
    if workspace.executor:
        needs = [{n: p.read_bytes() for n, p in run.needs.items()} for run in field.runs]
        asked = checked, field, needs, wanted, seconds, options
        return workspace.executor.measure_programs(*asked), anchor
    return measure_programs(field, wanted, seconds, chance, workspace.progress), anchor


def _run(given: Given) -> Run:
    expected = given.run.expected.get("exit")
    return Run(
        given.label,
        given.run.arguments,
        given.stdin,
        given.needs,
        None if expected is None else int(expected),
    )
