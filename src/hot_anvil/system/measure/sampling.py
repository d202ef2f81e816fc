"""Look where a candidate's time goes, in fresh processes, and read the code it runs."""

import os
from bisect import bisect_right
from collections import Counter
from pathlib import Path

from hot_anvil.core.calling.timing import Samples
from hot_anvil.core.code.records import Code
from hot_anvil.core.code.stored import from_plain, to_plain
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.measure.hotspots import Seen
from hot_anvil.core.measure.measurements import SAMPLE_SECONDS
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.build.reading_back import read_linked
from hot_anvil.system.execute.calls import memory_limit
from hot_anvil.system.execute.workers import Worker
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store

PROCESSES = 4
BETWEEN = 0.0005  # seconds from one look to the next, on average


def sample_calls(
    path: str, entry: int, inputs: InputSet, seconds: float
) -> tuple[list[Seen], float]:
    """Return the looks of several fresh processes, and the seconds per call meanwhile.

    ``seconds`` is for all of them together.
    """
    seen, calls, took = [], 0, 0.0
    for _ in range(PROCESSES):
        with Worker(path, memory=memory_limit(path)) as worker:
            worker.prepare(0, 0, entry, inputs)
            alone = worker.state(0, 60.0)
            batch = worker.calibrate(0, SAMPLE_SECONDS, alone, 60.0).calls
            samples = worker.sample(0, 1 if alone else batch, seconds / PROCESSES, BETWEEN)
            seen.append(_sort(samples, worker.maps(), path))
        calls += samples.calls
        took += samples.seconds
    return seen, took / max(calls, 1)


def _sort(samples: Samples, maps: str, path: str) -> Seen:
    """Tell looks in the program from those in libraries."""
    own = os.path.realpath(path)
    regions = []
    for line in maps.splitlines():
        fields = line.split(maxsplit=5)
        first, end = (int(number, 16) for number in fields[0].split("-"))
        regions.append((first, end, fields[5] if len(fields) > 5 else "memory"))
    starts = [region[0] for region in regions]
    inside: Counter[int] = Counter()
    outside: Counter[str] = Counter()
    for place in samples.places:
        first, end, name = regions[max(bisect_right(starts, place) - 1, 0)]
        if first <= place < end and name == own:
            inside[place - samples.start] += 1
        else:
            outside[Path(name).name if place < end else "unknown"] += 1
    return Seen(inside, outside)


def program_code(
    path: str, chain: Toolchain, store: Store, within: tuple[int, int] | None = None
) -> Code:
    """Return the code of a linked program, or what of it lies ``within`` addresses, read once."""
    program = Path(path)

    def read(_: Path) -> object:
        return to_plain(read_linked(chain, program.parent, program.name, store.root, (), within))

    about = (f"code of program {stage_digest('code')}", program.parent.name)
    name = digest(*about, *map(str, within or ()))
    return from_plain(store.derive(name, read))
