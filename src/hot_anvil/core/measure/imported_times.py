"""Times that something else measured, an instrument or a board, read from CSV.

Columns, named in the first row: ``candidate``, ``value``, ``unit`` (s, ms, us,
ns; Hz, kHz, MHz for a frequency; cycles@16MHz for counted clocks), and where
they apply ``snippet``, ``inputs`` (such as n=64), ``calls`` (that one value
covers, 1 without) and ``run``: values with the same run were taken under the
same circumstances and are compared with each other. Without it the first value
of each candidate is one run, the second the next.
"""

import csv
import io
import math
import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.measure.measurements import Generation, Measurements
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

_COLUMNS = ("candidate", "value", "unit", "snippet", "inputs", "calls", "run")
_NEEDED = _COLUMNS[:3]
_TIMES = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9}
_FREQUENCIES = {"Hz": 1.0, "kHz": 1e3, "MHz": 1e6, "GHz": 1e9}
_CYCLES = re.compile(r"cycles@([\d.]+)(Hz|kHz|MHz|GHz)")


class Row(NamedTuple):
    """One value, as seconds per call."""

    line: int  # of the file
    snippet: str  # "" where the file does not say
    inputs: str
    candidate: str
    run: str
    seconds: float


def read_times(text: str, file: str) -> list[Row]:
    """Read a file of times. Raises RequestError that names file and line."""
    reader = csv.DictReader(io.StringIO(text), skipinitialspace=True)
    heads = [head.strip() for head in reader.fieldnames or ()]
    reader.fieldnames = heads
    missing = [name for name in _NEEDED if name not in heads]
    if missing:
        raise RequestError(
            f"{file}:1: the first row must name the columns; {listed(missing)} is missing. "
            f"Columns: {listed(_COLUMNS)}."
        )
    for head in heads:
        if head not in _COLUMNS:
            hint = did_you_mean(head, _COLUMNS) or f" Columns: {listed(_COLUMNS)}."
            raise RequestError(f"{file}:1: there is no column '{head}'.{hint}")
    rows: list[Row] = []
    seen: dict[tuple[str, str, str], int] = {}
    for fields in reader:
        row = {key: (value or "").strip() for key, value in fields.items() if key in _COLUMNS}
        if not any(row.values()):
            continue
        where = f"{file}:{reader.line_num}"
        key = row.get("snippet", ""), row.get("inputs", ""), row["candidate"]
        seen[key] = seen.get(key, 0) + 1
        run = row.get("run") or f"#{seen[key]}"
        rows.append(Row(reader.line_num, *key, run, _seconds(row, where)))
    if not rows:
        raise RequestError(f"{file}: there are no times in it.")
    return rows


def _seconds(row: Mapping[str, str], where: str) -> float:
    value = _number(row["value"], f"{where}: value")
    calls = _number(row.get("calls") or "1", f"{where}: calls")
    unit = row["unit"]
    cycles = _CYCLES.fullmatch(unit)
    if unit in _TIMES:
        seconds = value * _TIMES[unit]
    elif unit in _FREQUENCIES:
        seconds = 1 / (value * _FREQUENCIES[unit])
    elif cycles and float(cycles[1]) > 0:
        seconds = value / (float(cycles[1]) * _FREQUENCIES[cycles[2]])
    else:
        known = listed([*_TIMES, *_FREQUENCIES, "cycles@16MHz"])
        raise RequestError(f"{where}: '{unit}' is no unit of a time. Units: {known}.")
    return seconds / calls


def _number(text: str, where: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = 0.0
    if not (value > 0 and math.isfinite(value)):
        raise RequestError(f"{where}: '{text}' is not a number above 0.")
    return value


def make_measurements(
    rows: Sequence[Row], snippet: str, candidates: Sequence[str], clock: str
) -> list[Measurements]:
    """Return measurements for each size that the rows hold times of.

    Each run is a generation of one round. There is no control: nothing was
    measured twice, so the noise floor is the least one.
    """
    all_measurements = []
    for inputs in dict.fromkeys(row.inputs for row in rows):
        own = [row for row in rows if row.inputs == inputs]
        there = {row.candidate for row in own}
        columns = [name for name in candidates if name in there]
        by_run: dict[str, dict[str, list[float]]] = {}
        for row in own:
            by_run.setdefault(row.run, {}).setdefault(row.candidate, []).append(row.seconds)
        generations = [_generation(times, columns) for times in by_run.values()]
        measurements = Measurements(
            snippet, inputs, tuple(columns), tuple(generations), {}, clock=clock
        )
        all_measurements.append(measurements)
    return all_measurements


def _generation(times: Mapping[str, Sequence[float]], columns: Sequence[str]) -> Generation:
    most = max(map(len, times.values()))
    nothing = (math.nan,) * (len(columns) + 1)

    def row(number: int) -> tuple[float, ...]:
        own = [times.get(name, ()) for name in columns]
        return (*(t[number] if number < len(t) else math.nan for t in own), math.nan)

    rounds = tuple(row(number) for number in range(most))
    return Generation(0, 0, rounds, (nothing,) * most, nothing, 0.0)
