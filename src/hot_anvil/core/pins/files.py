"""Recordings of pins in files: value change dumps (IEEE 1364-2005, clause 18), and CSV."""

import csv
import io
import re
from collections.abc import Iterator

from hot_anvil.core.pins.records import Edge, Recording, Trace
from hot_anvil.errors import RequestError

_SCALES = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9, "ps": 1e-12, "fs": 1e-15}
_PICO = 1e-12
_MARKS = [chr(code) for code in range(33, 127)]  # what VCD may call a signal


def write_dump(recording: Recording) -> str:
    """Return a recording as a value change dump, its time in picoseconds.

    Without a clock a tick is written as one nanosecond, and a comment says so.
    """
    tick = recording.tick or 1e-9
    lines = ["$timescale 1 ps $end"]
    if not recording.tick:
        lines.append(f"$comment one nanosecond stands for one of the {recording.unit} $end")
    lines.append("$scope module pins $end")
    marks = dict(zip((trace.pin for trace in recording.traces), _MARKS, strict=False))
    lines += [f"$var wire 1 {marks[t.pin]} {t.pin} $end" for t in recording.traces]
    lines += ["$upscope $end", "$enddefinitions $end"]
    changes = sorted(
        (edge.at, marks[trace.pin], edge.level)
        for trace in recording.traces
        for edge in trace.edges
    )
    last = None
    for at, mark, level in changes:
        if at != last:
            lines.append(f"#{round(at * tick / _PICO)}")
            last = at
        lines.append(f"{level}{mark}")
    lines.append(f"#{round(recording.end * tick / _PICO)}")
    return "\n".join((*lines, ""))


def read_recording(name: str, text: str) -> Recording:
    """Return what an instrument recorded; a tick is a second.

    ``name`` is the file's; one that ends in ``.csv`` has a column ``time`` (seconds) and one for
    each pin, with 0 or 1. Raises RequestError for what cannot be read.
    """
    rows = _from_csv(name, text) if name.lower().endswith(".csv") else _from_dump(name, text)
    traces: dict[str, list[Edge]] = {}
    end = 0.0
    for at, pin, level in rows:
        end = max(end, at)
        edges = traces.setdefault(pin, [])
        if edges and at < edges[-1].at:
            raise RequestError(f"{name}: {pin} goes back in time at {at:g} s.")
        if not edges or edges[-1].level != level:
            edges.append(Edge(at, level))
    if not traces:
        raise RequestError(f"{name}: no pin with a level of 0 or 1 is in it.")
    made = tuple(Trace(pin, tuple(edges)) for pin, edges in traces.items())
    return Recording(name, made, end, 1.0, "s")


def _from_csv(name: str, text: str) -> Iterator[tuple[float, str, int]]:
    reader = csv.DictReader(io.StringIO(text))
    pins = [column for column in reader.fieldnames or () if column != "time"]
    if "time" not in (reader.fieldnames or ()) or not pins:
        raise RequestError(
            f"{name}: needs a first line such as time,PB0,PB1: a column 'time' in seconds, and one "
            "for each pin."
        )
    for number, row in enumerate(reader, 2):
        for pin in pins:
            try:
                at, level = float(row["time"] or ""), int(float(row[pin] or ""))
            except ValueError:
                raise RequestError(f"{name}:{number}: {pin} or its time is no number.") from None
            if level not in (0, 1) or not at >= 0:
                raise RequestError(f"{name}:{number}: {pin} must be 0 or 1, the time not negative.")
            yield at, pin, level


def _from_dump(name: str, text: str) -> Iterator[tuple[float, str, int]]:
    scale = re.search(r"\$timescale\s+(\d+)\s*(\w+)\s+\$end", text)
    head, found, body = text.partition("$enddefinitions")
    if not scale or scale[2] not in _SCALES or not found:
        raise RequestError(
            f"{name}: is no value change dump: $timescale or $enddefinitions is missing. An "
            "instrument's CSV must be called .csv."
        )
    tick = int(scale[1]) * _SCALES[scale[2]]
    pins = dict(re.findall(r"\$var\s+\w+\s+1\s+(\S+)\s+(\S+)[^$]*\$end", head))
    at = 0.0
    for word in re.sub(r"\$(?!end)\w+|\$end", " ", body).split():
        if word.startswith("#"):
            at = int(word[1:]) * tick if word[1:].isdecimal() else at
        elif word[0] in "01" and word[1:] in pins:
            yield at, pins[word[1:]], int(word[0])
