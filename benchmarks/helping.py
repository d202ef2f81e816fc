"""Does ``whatif`` find the change that helps, and claim none where nothing does?

    python benchmarks/helping.py [NAME ...]

Twelve functions that one known change helps: is it found, and first or tied with the first? Twelve
that nothing of it helps: is no gain claimed? And every gain that is claimed is measured once more,
by itself, in fresh processes: does it hold? Prints a row each and exits 1 unless the known change
is found in ten, no false gain is claimed and 95 % of the gains hold.
"""

import sys
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

from hot_anvil.api import open_bench
from hot_anvil.core.build.records import COMPILED
from hot_anvil.core.experiments.results import Tried
from hot_anvil.usecases.whatif import Search

CASES = Path(__file__).parent / "helping"
LEAST_FOUND, LEAST_HELD = 10, 0.95
SECONDS = 20.0  # of measuring one function
AGAIN = 4.0  # of measuring one gain once more


class Row(NamedTuple):
    """One function and what was found."""

    name: str
    known: tuple[str, ...]  # words in the names of experiments that are the known change
    gains: tuple[Tried, ...]
    held: int  # of the gains, when measured once more


def known_changes() -> dict[str, tuple[str, ...]]:
    """Return the known change of each snippet: the line of its file that begins with "helps:"."""
    out = {}
    for folder in sorted(CASES.iterdir()):
        for line in (folder / "anvil.toml").read_text().split("\n"):
            if line.startswith("# helps:"):
                words = line.partition(":")[2].split("|")
                out[folder.name] = tuple(word.strip() for word in words if word.strip())
    return out


def tried_on(name: str, known: tuple[str, ...], folder: Path) -> Row:
    """Try things on one function, then measure every gain again."""
    for file in (CASES / name).iterdir():
        (folder / file.name).write_text(file.read_text())
    anvil = open_bench(folder)
    (build,) = anvil.builds
    workspace = anvil.workspace
    with workspace.scope.entered():
        (built,) = workspace.compile((), [build])
        assert built.status == COMPILED, built.why
        (entry,) = built.snippet.entries
        search = Search(workspace, built, entry, SECONDS, None, 5.0)
        found = search.run()
        assert not any("itself is" in note for note in found.notes), found.notes
        gains = tuple(one for one in found.tried if one.gain)
        held = sum(search.holds(one.experiment.name, AGAIN) for one in gains)
    return Row(name, known, gains, held)


def is_found(row: Row) -> bool:
    """Tell whether the known change is first, or its interval reaches that of the first."""
    for one in row.gains:
        if any(word in one.experiment.name for word in row.known):
            results = [tried.result for tried in (row.gains[0], one)]
            first, own = (result.comparison.verdict for result in results if result)
            return own.low <= first.high
    return False


def main(names: list[str]) -> int:
    found = claimed = gains = held = helped = 0
    for name, known in known_changes().items():
        if names and name not in names:
            continue
        began = time.monotonic()
        with tempfile.TemporaryDirectory() as folder:
            row = tried_on(name, known, Path(folder))
        gains += len(row.gains)
        held += row.held
        told = ", ".join(f"{g.experiment.name} {g.ratio:.3g}x" for g in row.gains[:3]) or "nothing"
        if known:
            helped += 1
            found += is_found(row)
            word = "found" if is_found(row) else "NOT FOUND"
        else:
            claimed += bool(row.gains)
            word = "CLAIMED" if row.gains else "nothing, rightly"
        seconds = time.monotonic() - began
        print(f"{name:16} {word:16} {row.held}/{len(row.gains)} held  {seconds:.0f} s  {told}",
              flush=True)  # fmt: skip
    print(f"found {found} of {helped}; claimed in {claimed}; {held} of {gains} gains held")
    enough = found >= LEAST_FOUND or bool(names)
    return int(not enough or claimed > 0 or held < LEAST_HELD * gains)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
