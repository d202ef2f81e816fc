"""What share of a whole program's time an entry takes, measured in the program's own runs."""

import os
import struct
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

from hot_anvil.core.binary.lines import DebugLines
from hot_anvil.core.code.records import Code
from hot_anvil.core.config.records import Snippet, find_snippets
from hot_anvil.core.measure.hotspots import Share, share_of
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError
from hot_anvil.system.execute.programs import run_program
from hot_anvil.system.measure.sampling import BETWEEN, program_code
from hot_anvil.usecases.programs import Given, given_runs, link_program
from hot_anvil.workspace import Workspace

ENOUGH = 3000  # looks
MOST_RUNS = 400
FEWEST_RUNS = 4
RUN_SECONDS = 60.0
_MEMORY = 1 << 20  # bytes for looks of one run


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
        seen = _looks(linked.path, given[number % len(given)], workspace.bench.root)
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


def _looks(path: str, given: Given, root: str) -> Counter[int]:
    """Return where one run was seen: offset in the program -> looks."""
    memory = os.memfd_create("samples")
    try:
        os.truncate(memory, _MEMORY)
        os.pwrite(memory, struct.pack("<QQQ", 0, 0, int(BETWEEN * 1e9)), 0)
        run = given.run
        ran = run_program(
            path, run.arguments, given.stdin, given.needs, run.writes, RUN_SECONDS, root, memory
        )
        if ran.output is None:
            raise RequestError(f"{path}: {ran.why} while its time was looked at.")
        start, count, _ = struct.unpack("<QQQ", os.pread(memory, 24, 0))
        places = struct.unpack(f"<{count}Q", os.pread(memory, 8 * count, 24))
        return Counter(place - start for place in places)
    finally:
        os.close(memory)


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
