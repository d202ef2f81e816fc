"""Time whole programs: fresh processes in rounds, wall and processor time, and memory."""

import math
import os
import random
import shutil
import statistics
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core.calling.timing import Launch, Launched
from hot_anvil.core.measure.measurements import Generation, Measurements, Usage
from hot_anvil.core.measure.summary import current_best, undecided
from hot_anvil.system.execute.calls import memory_limit
from hot_anvil.system.execute.programs import FILE_LIMIT
from hot_anvil.system.execute.workers import (
    Worker,
    WorkerEnded,
    own_environment,
    remove_folder,
)
from hot_anvil.system.measure.rounds import ContestantEnded
from hot_anvil.system.process.progress import Progress
from hot_anvil.system.process.running import signal_name

FEWEST, ENOUGH, MOST = 10, 40, 400  # generations
ROUNDS = 3
NARROW = 0.01


class Run(NamedTuple):
    """One of the ways a program is run."""

    label: str
    arguments: tuple[str, ...]
    stdin: bytes
    needs: Mapping[str, Path]  # name in its folder -> file
    exit_code: int | None  # None where any will do


class Field(NamedTuple):
    """The programs to time."""

    snippet: str
    paths: Mapping[str, str]  # candidate -> program
    runs: Sequence[Run]
    same_as: Mapping[str, str]
    cpu: int  # -1 for any
    loader: str  # the worker that launches them
    call_seconds: float  # for one run


def measure_programs(
    field: Field,
    baseline: str | None,
    seconds: float,
    chance: random.Random,
    progress: Progress,
) -> list[Measurements]:
    """Return measurements for each run; ``seconds`` is for all of it.

    ``baseline`` as for functions: None stops when all are placed against the
    fastest. A generation is ROUNDS rounds of one fresh process a candidate.
    """
    candidates = tuple(field.paths)
    all_measurements = [
        Measurements(field.snippet, r.label, candidates, (), field.same_as) for r in field.runs
    ]
    taken: list[dict[str, list[Launched]]] = [{c: [] for c in candidates} for _ in field.runs]
    started = time.monotonic()
    done = 0
    with Worker(field.loader, field.cpu, 0) as worker:
        _generation(
            worker, field, [0] * len(all_measurements), chance, 1
        )  # the files come into memory
        while done < MOST:
            spent = time.monotonic() - started
            left = max(0.0, seconds - spent)
            what = f"measuring {field.snippet}: at most {left:.0f} s left"
            progress(what, int(spent * 10), int((spent + left) * 10))
            if done >= FEWEST and spent >= seconds:
                break
            if done >= ENOUGH and all(
                undecided(c, baseline, NARROW) <= 0 for c in all_measurements
            ):
                break
            controls = [current_best(c) if c.generations else 0 for c in all_measurements]
            for number, (made, launched) in enumerate(
                _generation(worker, field, controls, chance, ROUNDS)
            ):
                own = all_measurements[number]
                all_measurements[number] = own._replace(generations=(*own.generations, made))
                for candidate, rows in launched.items():
                    taken[number][candidate] += rows
            done += 1
    progress(f"measuring {field.snippet}", 1, 1)
    return [
        measurements._replace(usage={c: _usage(rows) for c, rows in taken[number].items()})
        for number, measurements in enumerate(all_measurements)
    ]


def _usage(rows: Sequence[Launched]) -> Usage:
    return Usage(statistics.median(r.cpu for r in rows), max(r.peak for r in rows))


def _generation(
    worker: Worker, field: Field, controls: Sequence[int], chance: random.Random, rounds: int
) -> list[tuple[Generation, dict[str, list[Launched]]]]:
    candidates = list(field.paths)
    columns = range(len(candidates) + 1)
    out = []
    for number, run in enumerate(field.runs):
        times, probes = [], []
        launched: dict[str, list[Launched]] = {c: [] for c in candidates}
        for _ in range(rounds):
            row, seen = [math.nan] * len(columns), [math.nan] * len(columns)
            for column in chance.sample(columns, len(columns)):
                control = column == len(candidates)
                candidate = candidates[controls[number] if control else column]
                seen[column] = worker.probe()
                took = _launch(worker, field, candidate, run)
                row[column] = took.wall
                if not control:
                    launched[candidate].append(took)
            times.append(tuple(row))
            probes.append(tuple(seen))
        first = tuple(math.nan for _ in columns)
        made = Generation(0, controls[number], tuple(times), tuple(probes), first, 0.0)
        out.append((made, launched))
    return out


def _launch(worker: Worker, field: Field, candidate: str, run: Run) -> Launched:
    """Run a program once in a fresh folder that holds the files it needs."""
    path = field.paths[candidate]
    folder = Path(worker.folder, "run")  # all that is launched from there may write to
    try:
        own = folder / "own"
        own.mkdir(parents=True)
        Path(folder, "in").write_bytes(run.stdin)
        for name, source in run.needs.items():
            (own / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(source, own / name)
        variables = tuple(f"{k}={v}" for k, v in own_environment(str(own)).items())
        wanted = Launch(
            (path, *run.arguments),
            variables,
            str(own),
            str(Path(folder, "in")),
            str(Path(folder, "out")),
            memory_limit(path),
            FILE_LIMIT,
        )
        took = worker.launch(wanted, field.call_seconds)
    except WorkerEnded as ended:
        raise ContestantEnded(candidate, ended.kind, ended.why) from ended
    finally:
        remove_folder(str(folder))
    code = os.waitstatus_to_exitcode(took.status)
    if code < 0:
        raise ContestantEnded(candidate, "crashed", f"killed by {signal_name(-code)}")
    if run.exit_code is not None and code != run.exit_code:
        why = f"ended with exit code {code}, {run.exit_code} when it was checked"
        raise ContestantEnded(candidate, "unstable", why)
    return took
