"""What was measured at one size, before any statistics."""

import math
from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import Any, Literal, NamedTuple

SAMPLE_SECONDS = 0.0002
LONG_CALL = 0.002  # seconds; a batch then is one sample of one call
SIMILAR = 1.15  # times of equal candidates are calibrated no further apart
POSITION, CACHE_LINE = 16, 64  # bytes
Clock = Literal["wall clock", "CPU clock"]
WALL: Clock = "wall clock"
CPU: Clock = "CPU clock"
NO_NUMBERS: Mapping[str, int] = MappingProxyType({})
_KEPT_DIGITS = 5


class Generation(NamedTuple):
    """One set of fresh worker processes at one sweep point, all code at one placement.

    Columns are the candidates, then the control: a second copy of one of them.
    """

    placement: int  # bytes after a 64-byte boundary, before the code's own alignment
    control_of: int  # column
    times: tuple[tuple[float, ...], ...]  # (round, column): seconds per call, NaN if not run
    probes: tuple[tuple[float, ...], ...]  # the same: seconds of a fixed piece of work before it
    first: tuple[float, ...]  # per column: seconds of the first call in its process
    disturbed: float  # share of batches during which the process was put off the CPU


class Usage(NamedTuple):
    """What a whole program takes beside time."""

    cpu_seconds: float  # median over its runs
    peak_bytes: int  # memory at its most, in any run


NO_USAGE: Mapping[str, Usage] = MappingProxyType({})


class Measurements(NamedTuple):
    """All that was measured at one sweep point."""

    snippet: str
    inputs: str  # label of the sweep point
    candidates: tuple[str, ...]  # one per column but the last
    generations: tuple[Generation, ...]
    same_as: Mapping[str, str]  # candidate not timed -> timed one with the very same code
    numbers: Mapping[str, int] = NO_NUMBERS  # the sweep point
    elements: int | None = None  # that a call works on, where the snippet says "per"
    clock: Clock | str = WALL  # or what times were imported from
    alone: bool = False  # calls change what they read: each was made from its first values
    restoring: float = 0.0  # seconds to put the first values back once, never inside a time
    shared: tuple[str, ...] = ()  # candidates that were timed in one process
    threads: int = 0  # that called at once, 0 for one
    aligned: tuple[str, ...] = ()  # candidates whose code starts at multiples of POSITION only
    usage: Mapping[str, Usage] = NO_USAGE  # of whole programs, by candidate
    cold: bool = False  # each call found caches and branch predictors displaced
    copies: int = 0  # of the first values, called in a row where calls are alone; 0: one at a time
    machines: tuple[int, ...] = ()  # generations of each machine, in a row; () for one machine


class Count(NamedTuple):
    """Instructions that one warm call executes, or why they are not known."""

    instructions: int | None
    why: str
    how: str = ""  # where it was not counted as all others are


def position_of(placement: int) -> int:
    """Return where in a cache line aligned code starts: which POSITION of it, from 0."""
    return -(-placement // POSITION) % (CACHE_LINE // POSITION)


def samples_for(seconds_per_call: float) -> tuple[int, int]:
    """Return (samples of a batch, how many of the first to drop) for a call this long."""
    if seconds_per_call > LONG_CALL:
        return 1, 0
    return (2, 1) if seconds_per_call > SAMPLE_SECONDS else (6, 1)


class BatchSize(NamedTuple):
    """How a candidate is called in a batch."""

    calls: int  # of a sample
    counts_as: float  # seconds per call that the batch is laid out for
    seconds: float  # per call, as calibrated
    between: float = 0.0  # seconds from one call to the next that no sample holds


def shared_batch_sizes(per_call: Sequence[float]) -> tuple[BatchSize, ...]:
    """Return the pace of each candidate, given its calibrated seconds per call.

    Candidates that may be equal must make the same number of calls: each batch
    warms caches and branch predictors anew, so a sample of more calls is faster
    per call, and calibrating each by itself made equal code differ by up to
    3 %. Neighbours in speed within SIMILAR of each other therefore share the
    number that fits the fastest of them.
    """
    order = sorted(range(len(per_call)), key=per_call.__getitem__)
    out = [BatchSize(1, 0.0, 0.0)] * len(per_call)
    leader = previous = 0.0
    for k in order:
        seconds = max(per_call[k], 1e-12)
        if not previous or seconds > previous * SIMILAR:
            leader = seconds
        previous = seconds
        out[k] = BatchSize(max(1, round(SAMPLE_SECONDS / leader)), leader, seconds)
    return tuple(out)


def measurements_document(measurements: Measurements) -> dict[str, Any]:
    """Return the measurement as plain data; None stands for a candidate that did not run."""

    def plain(values: Sequence[float]) -> list[float | None]:
        return [None if math.isnan(v) else float(f"{v:.{_KEPT_DIGITS}g}") for v in values]

    generations = [
        {
            **generation._asdict(),
            "times": [plain(row) for row in generation.times],
            "probes": [plain(row) for row in generation.probes],
            "first": plain(generation.first),
        }
        for generation in measurements.generations
    ]
    return {
        **measurements._asdict(),
        "generations": generations,
        "same_as": dict(measurements.same_as),
        "numbers": dict(measurements.numbers),
        "usage": {name: list(usage) for name, usage in measurements.usage.items()},
    }


def read_measurements(document: Mapping[str, Any]) -> Measurements:
    """Return the measurement that ``contest_document`` made plain."""

    def known(values: Sequence[float | None]) -> tuple[float, ...]:
        return tuple(math.nan if v is None else v for v in values)

    generations = tuple(
        Generation(
            **{
                **row,
                "times": tuple(map(known, row["times"])),
                "probes": tuple(map(known, row["probes"])),
                "first": known(row["first"]),
            }
        )
        for row in document["generations"]
    )
    names = ("candidates", "shared", "aligned", "machines")
    lists = {key: tuple(document.get(key, ())) for key in names}
    usage = {name: Usage(*row) for name, row in document.get("usage", {}).items()}
    return Measurements(**{**document, **lists, "generations": generations, "usage": usage})
