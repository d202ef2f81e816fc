"""Candidates of other targets: counted under their emulators, ranked target by target."""

from hot_anvil.core.measure.elsewhere import Elsewhere, rank_counts
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import Verdict
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.measure.counting import find_emulator
from hot_anvil.usecases.evidence import counts_of
from hot_anvil.workspace import Workspace


def count_elsewhere(workspace: Workspace, checked: Checked) -> tuple[Elsewhere, ...]:
    """Return a ranking for each target whose correct candidates ran under an emulator."""
    if checked.snippet.program:
        return ()
    by_target: dict[str, list[Verdict]] = {}
    for verdict in checked.correct:
        if verdict.emulator:
            target = workspace.toolchain(workspace.build(verdict.build)).target
            by_target.setdefault(target, []).append(verdict)
    host = host_toolchain(workspace.found.toolchains)
    out = []
    for target, verdicts in by_target.items():
        emulator = find_emulator(host, target, workspace.store)
        counts = counts_of(workspace, checked, verdicts, emulator)
        names = [verdict.candidate for verdict in verdicts]
        out.append(rank_counts(target, emulator.name or emulator.why, names, counts))
    return tuple(out)
