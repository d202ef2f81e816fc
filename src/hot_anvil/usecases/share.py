"""What share of a whole program's time an entry takes, measured in the program's own runs."""

from collections.abc import Sequence
from pathlib import Path

from hot_anvil.core.binary.lines import DebugLines
from hot_anvil.core.code.records import Code
from hot_anvil.core.config.records import Snippet, find_snippets
from hot_anvil.core.measure.hotspots import Share, share_of
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError
from hot_anvil.system.measure.program_sampling import look_at_run
from hot_anvil.system.measure.sampling import program_code
from hot_anvil.usecases.programs import given_runs, link_program
from hot_anvil.workspace import Workspace

ENOUGH = 3000  # looks
MOST_RUNS = 400
FEWEST_RUNS = 4


def measure_share(workspace: Workspace, snippet: Snippet, entries: Sequence[str]) -> Share:
    """Return the share of the entries' own code, inlined or not, without what it calls.

    The program named in ``share`` runs under the bench's baseline build.
    """
    programs = [s.name for s in workspace.bench.snippets if s.program]
    where = f"{workspace.bench.file}: snippet {snippet.name}: share"
    if snippet.share_in not in programs:
        hint = did_you_mean(snippet.share_in, programs)
        raise RequestError(
            f"{where}: no program is called '{snippet.share_in}'.{hint} "
            f"Programs: {listed(programs) or 'none'}."
        )
    (program,) = find_snippets(workspace.bench, [snippet.share_in])
    built = workspace.compile([program.name])
    one = next((b for b in built if b.build == workspace.plan.baseline), built[0])
    linked = link_program(workspace, one)
    if linked.why:
        raise RequestError(f"{where}: {program.name} under {one.build.name} {linked.why}.")
    code = program_code(linked.path, workspace.toolchain(one.build), workspace.store)
    lines = DebugLines(Path(linked.path).read_bytes(), workspace.bench.root)
    hits, totals = [], []
    given = given_runs(workspace, program)
    for number in range(MOST_RUNS):
        one_run = given[number % len(given)]
        asked = one_run.run, one_run.stdin, one_run.needs
        seen = look_at_run(linked.path, *asked, workspace.bench.root)
        hits.append(sum(n for at, n in seen.items() if _is_of(at, code, lines, entries)))
        totals.append(seen.total())
        if number + 1 >= max(FEWEST_RUNS, len(given)) and sum(totals) >= ENOUGH:
            break
    if not sum(hits):
        raise RequestError(
            f"{where}: {program.name} was seen {sum(totals)} times and never in "
            f"{listed(entries)}: it does not call it, or too shortly to be seen. Give the share as "
            "a number."
        )
    return share_of(hits, totals)


def _is_of(offset: int, code: Code, lines: DebugLines, entries: Sequence[str]) -> bool:
    """Tell whether code at an offset is of one of the entries, or was inlined from it."""
    inner = lines.inlined(offset)
    if inner and inner.function in entries:
        return True
    if inner and any(site.function in entries for site in inner.chain):
        return True
    for function in code.functions:
        rows = function.instructions
        if function.owner not in entries or not rows:
            continue
        if rows[0].address <= offset < rows[-1].address + max(rows[-1].size, 1):
            return True
    return False
