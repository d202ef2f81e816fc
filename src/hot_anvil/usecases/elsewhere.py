"""Candidates of other targets: counted under their emulators, ranked target by target."""

import re
from collections.abc import Sequence

from hot_anvil.core.arch import image_kind_of
from hot_anvil.core.arch.boards import names_board
from hot_anvil.core.binary.elf import from_outside, memory_of
from hot_anvil.core.build.records import Built
from hot_anvil.core.facts.expectations import Called
from hot_anvil.core.inputs.input_sets import fitting
from hot_anvil.core.inputs.spec import point_label, sweep_points
from hot_anvil.core.measure.elsewhere import (
    CYCLES,
    ChipCost,
    Elsewhere,
    OnChip,
    clock_of,
    extremes,
    rank_counts,
)
from hot_anvil.core.measure.measurements import Count
from hot_anvil.core.toolchain.records import without_system
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import Verdict
from hot_anvil.system.build.chip_linking import chip_of
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.build.linking import Program
from hot_anvil.system.build.worker_objects import PLACEMENTS
from hot_anvil.system.execute.emulation import runs_on_chip
from hot_anvil.system.measure.board_costs import deepest_stack
from hot_anvil.system.measure.chip_costs import chip_costs
from hot_anvil.system.measure.counting import find_emulator
from hot_anvil.system.process.threads import thread_pool
from hot_anvil.usecases.evidence import counts_of, sets_of
from hot_anvil.usecases.kernels import is_kernels
from hot_anvil.usecases.linking import link_builds, link_for_boards
from hot_anvil.workspace import Workspace


def count_elsewhere(workspace: Workspace, checked: Checked) -> tuple[Elsewhere, ...]:
    """Return a ranking for each target whose correct candidates ran under an emulator."""
    if checked.snippet.program or is_kernels(checked.snippet):
        return ()
    by_target: dict[str, list[Verdict]] = {}
    for verdict in checked.correct:
        if verdict.emulator:
            target = workspace.toolchain(workspace.build(verdict.build)).target
            by_target.setdefault(target, []).append(verdict)
    host = host_toolchain(workspace.found.toolchains)
    out = []
    for target, verdicts in by_target.items():
        names = [verdict.candidate for verdict in verdicts]
        if runs_on_chip(verdicts[0].emulator):
            out += _on_chips(workspace, checked, verdicts)
            continue
        on_board = all(names_board(verdict.emulator) for verdict in verdicts)
        emulator = find_emulator(host, target, workspace.store, on_board)
        counts = counts_of(workspace, checked, verdicts, emulator)
        chips = _bare(workspace, checked, verdicts) if without_system(target) else {}
        ways = (v.emulator if names_board(v.emulator) else emulator.name for v in verdicts)
        name = emulator.why or "; ".join(dict.fromkeys(ways))
        out.append(rank_counts(target, name, names, counts, chips=chips))
    sweep = checked.snippet.sweep
    if len(sweep) == 1:
        ((name, sizes),) = sweep.items()
        return tuple(one._replace(swept=name, sizes=tuple(sizes)) for one in out)
    return tuple(out)


def _bare(workspace: Workspace, checked: Checked, verdicts: Sequence[Verdict]) -> dict[str, OnChip]:
    """Return what candidates without a system take: memory, and of a board's stack."""
    every = {b.build.name: b for b in workspace.compile([checked.snippet.name])}
    builds = [every[name] for name in dict.fromkeys(v.build for v in verdicts)]
    taken_by = {built.build.name: _of_build(workspace, built) for built in builds}
    programs = link_for_boards(workspace, builds, checked.signatures)
    names = [signature.name for signature in checked.signatures]

    def take(verdict: Verdict) -> OnChip:
        program, entry = programs[verdict.build], names.index(verdict.entry)
        taken = () if program.why else _taken(program, entry, checked)
        sets = [checked.sets[entry][k] for k in taken]
        stack = deepest_stack(program.path, entry, sets) if sets else None
        return taken_by[verdict.build]._replace(stack=stack)

    with thread_pool() as pool:
        return dict(zip((v.candidate for v in verdicts), pool.map(take, verdicts), strict=True))


def facts_of_calls(workspace: Workspace, checked: Checked) -> Called:
    """Return what a call of each candidate that runs elsewhere costs, by the names of facts."""
    keys = {verdict.candidate: (verdict.entry, verdict.build) for verdict in checked.verdicts}
    out: dict[tuple[str, str], dict[str, list[tuple[str, int | None, str]]]] = {}
    for one in count_elsewhere(workspace, checked):
        name = "cycles" if one.unit == CYCLES else "executed"
        for candidate in one.candidates:
            facts = out.setdefault(keys[candidate.candidate], {})
            facts[name] = [(at, c.instructions, c.why) for at, c in candidate.counts]
            if candidate.stack is not None:
                facts["deepest stack"] = [("", candidate.stack, "")]
    return out


def _on_chips(
    workspace: Workspace, checked: Checked, verdicts: Sequence[Verdict]
) -> list[Elsewhere]:
    """Return a ranking by cycles for each chip that builds name."""
    wanted = {verdict.build for verdict in verdicts}
    every = {b.build.name: b for b in workspace.compile([checked.snippet.name])}
    builds = {name: built for name, built in every.items() if name in wanted}
    programs = link_builds(workspace, list(builds.values()), checked.signatures, PLACEMENTS[0])
    taken_by = {name: _of_build(workspace, built) for name, built in builds.items()}
    labels = [point_label(point) for point in sweep_points(checked.snippet)]
    names = [signature.name for signature in checked.signatures]
    sets = sets_of(workspace, checked)
    counts: dict[str, dict[tuple[str, str], Count]] = {}
    chips: dict[str, dict[str, OnChip]] = {}
    for verdict in verdicts:
        built = builds[verdict.build]
        chain = workspace.toolchain(built.build)
        chip = chip_of(built, chain)
        flags = (*chain.flags, *built.build.flags)
        clock = clock_of(flags, workspace.bench.grid.clock_hz)
        entry = names.index(verdict.entry)
        program = programs[verdict.build]
        found = chip_costs(program, entry, sets[entry])
        for label, cost in zip(labels, found, strict=True):
            counts.setdefault(chip, {})[verdict.candidate, label] = cost.cycles
        over_all = _over_all(program, entry, checked)
        stack = max(cost.stack for cost in (*found, *(cost for cost, _ in over_all)))
        least, most = extremes((cost.cycles, label) for cost, label in over_all) or (None, None)
        own = taken_by[verdict.build]
        taken = own._replace(stack=stack, clock_hz=clock, least=least, most=most)
        chips.setdefault(chip, {})[verdict.candidate] = taken
    return [
        rank_counts(chip, verdicts[0].emulator, list(chips[chip]), own, CYCLES, chips[chip])
        for chip, own in counts.items()
    ]


def _over_all(program: Program, entry: int, checked: Checked) -> list[tuple[ChipCost, str]]:
    """Return what a call costs with each of the inputs that it was checked with."""
    chosen = [checked.sets[entry][k] for k in _taken(program, entry, checked)]
    labels = [inputs.label for inputs in chosen]
    return list(zip(chip_costs(program, entry, chosen), labels, strict=True))


def _taken(program: Program, entry: int, checked: Checked) -> Sequence[int]:
    """Return which of the inputs that an entry was checked with it can take there."""
    there = program.there[entry] if program.there else None
    sets = checked.sets[entry]
    return fitting(checked.signatures[entry], there, sets) if there else range(len(sets))


def _of_build(workspace: Workspace, built: Built) -> OnChip:
    """Return what all of a build's own sources take of a chip, and whom they call."""
    kind = image_kind_of(workspace.toolchain(built.build).target)
    units = [workspace.store.artefact(unit.artefact).object.read_bytes() for unit in built.units]
    flash, ram = zip(*map(memory_of, units), strict=True)
    calls = sorted(from_outside(units)) if kind and kind.stands_in else []
    stand_ins = tuple(n for n in calls if kind and re.match(kind.stands_in, n))
    return OnChip(sum(flash), sum(ram), stand_ins=stand_ins)
