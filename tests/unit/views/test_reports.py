"""Measurements as people see them: right, aligned, inside the width, nothing left unsaid."""

import json
import re
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from hot_anvil.core.config.records import Snippet
from hot_anvil.core.measure.choosing import Cost, pick
from hot_anvil.core.measure.code_identity import CodeIdentity
from hot_anvil.core.measure.compile_times import compile_time
from hot_anvil.core.measure.history import compare_states, read_state, state_document
from hot_anvil.core.measure.hotspots import Hot, Seen, make_hotspots, share_of
from hot_anvil.core.measure.measurements import CPU, Count, Usage
from hot_anvil.core.measure.results import Measured, Picked
from hot_anvil.core.measure.summary import Summary, summarise
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import Verdict
from hot_anvil.views.json.measure import measure_document
from hot_anvil.views.json.pick import pick_document
from hot_anvil.views.text.history import compared_report, history_report
from hot_anvil.views.text.hotspots import hotspots_report
from hot_anvil.views.text.measure import measure_report, slower_lines
from hot_anvil.views.text.pick import pick_report
from hot_anvil.views.text.report import Report
from made_measurements import PLACES, code, measurements, state

SURGE = Snippet("surge", "", ("surge.c",), ("ebb", "flow"), "", {}, {}, per="n")
NAMES = tuple(f"{entry}@gcc-12:{flags}" for entry in ("ebb", "flow") for flags in ("lean", "wide"))
OUT = Verdict("surge", "flow", "gcc-12:plain", "flow@gcc-12:plain", "wrong", "returned 1", 3)


def measured(points: list[int], works: list[list[float]], **more: Any) -> Measured:
    """Return a measurement at these sizes; ``works`` has seconds per size and candidate."""
    all_measurements = [
        measurements(n, own, noise=0.003, busy=[0.0] * (len(own) + 1))._replace(
            snippet="surge", inputs=f"n={n}", numbers={"n": n}, elements=n,
            candidates=NAMES[: len(own)], **more,
        )
        for n, own in zip(points, works, strict=True)
    ]  # fmt: skip
    summaries = tuple(summarise([one], NAMES[0]) for one in all_measurements)
    right = [
        OUT._replace(
            entry=name.partition("@")[0],
            build=name.partition("@")[2],
            candidate=name,
            verdict="correct",
            why="",
        )
        for name in NAMES[: len(works[0])]
    ]
    together = summaries[0] if len(points) == 1 else summarise(all_measurements, NAMES[0])
    checked = Checked(SURGE, (), NAMES[0], (*right, OUT), ("a note",))
    return Measured(checked, NAMES[0], tuple(all_measurements), summaries, together)


def chosen(item: Measured, share: float | None = None) -> Picked:
    costs = {
        v.candidate: Cost(
            10 * k + 20,
            compile_time([0.1 + k] * 5),
            f"gcc -O{k}",
            ("-march=native",) if "wide" in v.candidate else (),
        )
        for k, v in enumerate(item.checked.verdicts)
    }
    made = pick("surge", item.overall, item.checked.verdicts, costs, share=share)
    return Picked(item, made, share=share)


LINES = [[1e-6 + 1e-9 * n, 2e-7 + 2e-9 * n, 3e-6, 3.003e-6] for n in (64, 512, 4096, 32768)]
SIZES = [64, 512, 4096, 32768]


@pytest.mark.parametrize("width", [60, 80, 120])
def test_a_choice_over_many_sizes_fits_the_width_and_shows_every_size(width: int) -> None:
    item = chosen(measured(SIZES, LINES), share=0.2)
    text = pick_report([item], ("virtual machine",), width).text
    assert max(map(len, text.splitlines())) <= max(width, 80)
    headings = [line for line in text.splitlines() if line.startswith("  by size")]
    assert Counter(re.findall(r"n=\d+", " ".join(headings))) == {f"n={n}": 1 for n in SIZES}
    for name in NAMES:
        rows = [line for line in text.splitlines() if line.startswith(f"  {name} ")]
        words = re.findall(r"(best|tied|slower|not enough data)(?:: \w+ decides)? (\d)", str(rows))
        assert len(words) >= len(SIZES)
    assert "flow@gcc-12:plain" in text and "wrong: returned 1" in text
    assert "of the whole program" in text or "the whole program takes" in text
    document = pick_document([item], ())
    by_size = {(row["inputs"], row["word"]) for row in document["by_size"]}
    assert {(f"n={n}", "best") for n in SIZES} <= by_size and len(document["by_size"]) == 16
    json.dumps(document, allow_nan=False)


def test_scaling_and_the_size_where_the_fastest_changes_are_told() -> None:
    text = measure_report([measured(SIZES, LINES)], (), 110).text
    assert "growth over n" in text and text.count("an element") == len(SIZES) + 1
    assert "no straight line" not in text and text.count("none to see") == 2
    assert text.count("intervals hold") == 1 and text.count("noise floor") == len(SIZES)
    found = re.search(r"the fastest is (\S+) up to about n = (\d+) and (\S+) above", text)
    assert found and found[1] == NAMES[1] and found[3] == NAMES[2] and int(found[2]) == 1400


def test_the_reader_is_told_what_weakens_a_time() -> None:
    item = measured([64], [[3e-4, 3.3e-4]], clock=CPU, alone=True, restoring=2e-6, threads=3)
    text = " ".join(measure_report([item], ("no counters here",), 100).text.split())
    for told in ("CPU clock", "30 ns of clock", "putting them back took 2 us", "3 threads call",
                 "noise floor", "note: no counters here", "note: a note"):  # fmt: skip
        assert told.replace("2 us", "2.00 us") in text or told in text


def test_counts_programs_and_code_identities_have_their_columns() -> None:
    item = measured([64], [[1e-6, 1e-6]])
    counts = {
        (NAMES[0], "n=64"): Count(12345, ""),
        (NAMES[1], "n=64"): Count(None, "it has no such bytes"),
    }
    alike = CodeIdentity(NAMES[1], NAMES[0], False, "other instructions, same time")
    usage = {name: Usage(0.25, 7 << 20) for name in NAMES[:2]}
    all_measurements = (item.measurements[0]._replace(usage=usage),)
    item = item._replace(
        counts=counts, counted_by="QEMU 7.2, CPU model max", identities=(alike,),
        summaries=(summarise(all_measurements, NAMES[0]),),
    )  # fmt: skip
    text = " ".join(measure_report([item], (), 200).text.split())
    assert "12,345" in text and f"unknown for {NAMES[1]}: it has no such bytes" in text
    assert "CPU model max" in text and "other instructions, same time" in text
    assert "250 ms" in text and "7.00 MiB" in text
    picked = pick_report([chosen(item)], (), 100).text
    assert re.search(rf"instructions +n=64\n  {NAMES[0]} +12,345\n  {NAMES[1]} +unknown\n", picked)
    rows = {row["candidate"]: row for row in measure_document([item], ())["results"]}
    assert rows[NAMES[0]]["instructions"] == 12345 and rows[NAMES[1]]["instructions"] is None
    assert rows[NAMES[0]]["peak_bytes"] == 7 << 20


def test_what_placement_or_load_decides_is_said_beside_the_word() -> None:
    places = np.zeros((PLACES, 3))
    places[0, 1] = places[4, 0] = places[4, 2] = np.log(2)
    for made, told in (
        (measurements(5, [1e-6, 1e-6], 80, places=places), "placement decides"),
        (measurements(4, [1e-6, 1.1e-6], noise=0.003, busy=[0.6, 0.4, 0.6]), "load decides"),
    ):
        made = made._replace(candidates=NAMES[:2])
        item = measured([64], [[1e-6, 1e-6]])._replace(summaries=(summarise([made], NAMES[0]),))
        text = measure_report([item], (), 200).text
        assert told in text
        assert "as built slower: 2" in text or "on a quiet machine" in text


def test_nothing_correct_and_nothing_slower_are_said() -> None:
    nothing = measured([64], [[1e-6]])
    nothing = nothing._replace(summaries=(), overall=None, measurements=())
    report = measure_report([nothing], (), 80)
    assert "nothing is correct, so nothing was timed" in report.text
    assert "nothing is told slower than under gcc:fast" in slower_lines(report, (), "gcc:fast").text
    text = pick_report([chosen(nothing)], (), 80).text
    assert "no pick: no candidate is correct" in text


def hot(names: list[str], states: dict[tuple[str, int], str]) -> Hot:
    own = code("ebb: mov; add; ret")
    seen = [Seen(Counter({0: 10, 1: 189, 2: 1}), Counter({"libm.so.6": 50}))] * 2
    found = [
        make_hotspots(name, "n=64", 2e-6, own, seen, lambda at: ("surge.c", at + 1))
        for name in names
    ]
    return Hot("surge", tuple(found), states, ("flow@gcc-12:plain: wrong",))


def test_lines_have_their_share_of_the_time_alone_and_beside_each_other() -> None:
    sources = {"surge.c": ["int ebb(void)", "{ return level + 1; }", "}"]}
    alone = hotspots_report([hot(["ebb"], {})], sources, 100, False).text
    assert "not looked at: flow@gcc-12:plain: wrong" in alone and "2.00 us a call" in alone
    (line,) = (row for row in alone.splitlines() if "level + 1" in row)
    error = share_of([189, 189], [250, 250]).error
    assert line.split()[:3] == ["75.6", "%", f"±{100 * error:.1f}"]
    assert "in libm.so.6" in alone and "  3  }" not in alone  # 0.4 % is little
    assert "  3  }" in hotspots_report([hot(["ebb"], {})], sources, 100, True).text
    states = {("surge.c", 2): "changed"}
    beside = hotspots_report([hot(["ebb", "flow"], states)], sources, 120, False).text
    (line,) = (row for row in beside.splitlines() if "level + 1" in row)
    assert line.count("75.6 %") == 2 and line.endswith("changed") and "1.51 us" in line


def test_history_shows_what_changed_and_compares_only_what_can_be(tmp_path: Path) -> None:
    before, after = state(1, [1e-6, 2e-6], "ab"), state(2, [1e-6, 3e-6], "ax")
    text = history_report([before, after], (), (), 110).text
    assert re.search(r"#2 .*code$", text, re.M) and "machine m1: a gauge's computer" in text
    only = history_report([before, after], ("c1",), (), 110).text
    assert "  c1\n" in only and "  c0\n" not in only
    told = compared_report([compare_states(before, after)], (), 110).text
    assert re.search(r"c1 .* 1\.5\d?x .* slower +code", told) and "measured by c0" in told
    other = compare_states(before, state(3, [1e-6, 2e-6], "ab", "m2"))
    told = compared_report([other], (), 110).text
    assert "different machines" in told and told.count("unknown") == 2


def test_a_state_is_kept_even_where_an_interval_has_no_end() -> None:
    wild: Summary = summarise([measurements(3, [1e-6, 1e-6], generations=3)], "c0")
    makers = {name: state(1, [1e-6, 1e-6], "ab").entries[0].maker for name in ("c0", "c1")}
    plain = json.loads(
        json.dumps(state_document(wild, "c0", makers, ("m", "m"), ""), allow_nan=False)
    )
    entry = read_state(1, 0.0, "surge", plain).entry("c1")
    assert entry and entry.high == float("inf") and entry.word == "not enough data"


def test_notes_go_under_their_row_before_they_push_columns_out() -> None:
    note = "placement decides, as built slower: 1.66x"
    rows = [["ebb", "", "tied", note], ["flow", "", "best", ""]]
    for width, lines in ((40, 4), (80, 3)):
        report = Report(width)
        shown = report.table(("candidate", "empty", "word", ""), rows, "llrl", filled=True)
        assert shown == ["candidate", "word", ""] and len(report.lines) >= lines
        assert (
            note in " ".join(report.text.split())
            and max(map(len, report.text.split("\n"))) <= width
        )
