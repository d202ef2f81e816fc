"""Measuring: the statistics on made-up noise, and real candidates whose order is known."""

import json
import math
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import document, hot_anvil
from hot_anvil.core.measure.choosing import Cost, pick
from hot_anvil.core.measure.compile_times import compile_time
from hot_anvil.core.measure.measurements import (
    SIMILAR,
    Measurements,
    measurements_document,
    read_measurements,
    samples_for,
    shared_batch_sizes,
)
from hot_anvil.core.measure.statistics import ALPHA, trimmed_interval, word_for
from hot_anvil.core.measure.summary import Result, settled, summarise, undecided
from hot_anvil.core.verify.verdicts import Verdict
from made_measurements import PLACES, measurements


def words(measurements: Measurements) -> list[str]:
    return [r.comparison.verdict.word for r in summarise([measurements], "c0").results]


def test_equal_candidates_are_hardly_ever_told_apart() -> None:
    for generations in (10, 40):
        false = sum(
            bool({"faster", "slower"} & {*words(measurements(seed, [1e-6] * 4, generations, 0.02))})
            for seed in range(150)
        )
        assert false <= 150 * ALPHA


def test_true_differences_are_found_in_the_right_direction() -> None:
    found = 0
    for seed in range(60):
        made = measurements(seed, [1e-6, 1.03e-6, 0.97e-6])
        said = words(made)
        assert said[1] != "faster" and said[2] != "slower"
        found += said == ["baseline", "slower", "faster"]
        assert summarise([made], "c0").best == "c2"
    assert found >= 57


def second(made: Measurements) -> Result:
    return summarise([made], "c0").results[1]


def test_a_regime_that_doubles_all_times_moves_no_ratio() -> None:
    told = second(measurements(1, [1e-6, 2e-6], noise=0.001)).comparison.verdict
    assert told.ratio == pytest.approx(2, rel=0.01)
    assert told.low < told.ratio < told.high


def test_an_order_that_the_machines_load_turns_over_is_no_win() -> None:
    """One is 10 % slower on a quiet machine and 12 % faster on a busy one."""
    against = second(measurements(4, [1e-6, 1.1e-6], noise=0.003, busy=[0.6, 0.4, 0.6])).comparison
    assert against.verdict.word == "tied" and against.depends == "load"
    assert against.quiet and against.quiet.ratio == pytest.approx(1.1, rel=0.01)
    assert against.busy and against.busy.ratio == pytest.approx(0.9, rel=0.01)


def test_placement_that_both_meet_elsewhere_decides_and_is_told() -> None:
    """Equal candidates, each twice as slow at one placement of eight, not the same one."""
    places = np.zeros((PLACES, 3))
    places[0, 1] = places[4, 0] = places[4, 2] = np.log(2)
    found = second(measurements(5, [1e-6, 1e-6], 80, places=places))
    assert found.comparison.verdict.word == "tied" and found.comparison.depends == "placement"
    assert found.comparison.as_built and found.comparison.as_built.word == "slower"
    assert found.comparison.verdict.ratio == pytest.approx(1, abs=0.02)
    assert found.placement_spread == pytest.approx(2, rel=0.1)


def test_placement_that_both_meet_alike_hides_no_difference() -> None:
    places = np.zeros((PLACES, 3))
    places[::3] = np.log(1.5)
    against = second(measurements(6, [1e-6, 1.03e-6], places=places, noise=0.003)).comparison
    assert against.verdict.word == "slower" and not against.depends
    assert against.visible < 0.02


def test_a_clear_loser_is_dropped_and_keeps_what_was_measured_of_it() -> None:
    first = measurements(7, [1e-6, 1e-6, 1.002e-6, 3e-6])
    assert settled([first]) == {3}
    gone = tuple(
        generation._replace(
            times=tuple((*row[:3], math.nan, row[4]) for row in generation.times),
            probes=tuple((*row[:3], math.nan, row[4]) for row in generation.probes),
        )
        for generation in measurements(8, [1e-6, 1e-6, 1.002e-6, 3e-6]).generations
    )
    both = first._replace(generations=(*first.generations, *gone))
    before, after = summarise([first], "c0"), summarise([both], "c0")
    loser, same = after.results[3].comparison.verdict, before.results[3].comparison.verdict
    assert loser.word == "slower" and loser.ratio == pytest.approx(same.ratio, rel=1e-9)
    seconds = after.results[3].seconds_per_call
    assert seconds and 2.9e-6 < seconds < 6e-6  # quiet or busy
    assert [r.comparison.verdict.word for r in after.results[:3]] == ["baseline", "tied", "tied"]
    widths = [
        r[1].comparison.verdict.high / r[1].comparison.verdict.low
        for r in (after.results, before.results)
    ]
    assert widths[0] <= widths[1]
    assert read_measurements(json.loads(json.dumps(measurements_document(both)))).candidates


def test_too_little_data_is_said_and_with_it_what_could_have_been_seen() -> None:
    against = second(measurements(2, [1e-6, 1.02e-6], 10, noise=0.5)).comparison
    assert against.verdict.word == "not enough data" and against.visible > 0.05


def test_columns_of_imported_measurements_need_no_control_at_the_same_placement() -> None:
    few = measurements(3, [1e-6, 1e-6], generations=3)
    assert words(few) == ["baseline", "not enough data"]


@settings(max_examples=50)
@given(st.lists(st.floats(-1, 1), min_size=5, max_size=40), st.floats(-5, 5))
def test_the_interval_moves_with_the_data_and_ignores_its_order(
    values: list[float], shift: float
) -> None:
    data = np.array(values)
    first = trimmed_interval(data, 0.01)
    moved = trimmed_interval(data[::-1] + shift, 0.01)
    assert moved.centre == pytest.approx(first.centre + shift, abs=1e-9)
    assert moved.half_width == pytest.approx(first.half_width, abs=1e-9)
    assert min(values) - 1e-12 <= first.centre <= max(values) + 1e-12


def test_the_interval_is_that_of_the_books() -> None:
    # The self-awareness data of Wilcox 2012, section 3.3 (trimmed mean 282.7, winsorised
    # variance 21551); Yuen's error by hand: sqrt(18 * 21551 / (13 * 12)) = 49.87.
    data = np.array([77, 87, 88, 114, 151, 210, 219, 246, 253, 262, 296, 299, 306,
                     376, 428, 515, 666, 1310, 2611], dtype=float)  # fmt: skip
    found = trimmed_interval(data, 0.05)
    assert found.centre == pytest.approx(282.7, abs=0.05)
    assert found.half_width == pytest.approx(2.179 * 49.87, rel=0.001)


def test_wide_intervals_ask_for_more_and_clear_losers_do_not() -> None:
    assert undecided(measurements(1, [1e-6, 1e-6], noise=0.2), None, 0.01) > 0
    assert undecided(measurements(1, [1e-6, 9e-6], noise=0.02, generations=12), "c0", 0.01) <= 0


def test_several_sizes_count_alike() -> None:
    small, large = measurements(1, [1e-9, 2e-9]), measurements(2, [1e-3, 0.5e-3])
    both = summarise([small, large], "c0")
    assert both.results[1].comparison.verdict.ratio == pytest.approx(1.0, rel=0.02)
    assert both.results[1].seconds_per_call is None


def test_samples_grow_fewer_as_calls_grow_longer() -> None:
    assert [samples_for(t) for t in (1e-9, 5e-4, 0.5)] == [(6, 1), (2, 1), (1, 0)]


@given(st.lists(st.floats(1e-9, 1e-2), min_size=1, max_size=20))
def test_candidates_that_may_be_equal_make_the_same_number_of_calls(times: list[float]) -> None:
    batch_sizes = dict(zip(times, shared_batch_sizes(times), strict=True))
    for a in times:
        assert batch_sizes[a].calls >= 1 and batch_sizes[a].counts_as <= a == batch_sizes[a].seconds
        for b in times:
            if a <= b <= a * SIMILAR:
                assert batch_sizes[a][:2] == batch_sizes[b][:2]
    # Far slower ones make fewer: their samples would take too long.
    quick, slow = shared_batch_sizes([1e-6, 1e-4])
    assert quick.calls > slow.calls


@pytest.mark.parametrize("how", ["abort()", "*(volatile int *)8 = n"])  # apart; in one process
def test_a_candidate_that_dies_while_timed_is_out_and_the_others_go_on(
    tmp_path: Path, how: str
) -> None:
    source = tmp_path / "buoy.c"
    source.write_text(
        "#include <stdlib.h>\nint buoy(int n)\n{ static int calls;\n"
        f"  if (++calls > LIMIT) {how};\n  return n; }}\n"
    )
    found = document(
        "pick", source, "--build", "gcc -O1 -DLIMIT=2000000000", "--build", "gcc -O1 -DLIMIT=500",
        "--inputs", "n = 3", "--seconds", "0.1",
    )  # fmt: skip
    (row,) = found["excluded"]
    assert row["verdict"] == "crashed" and "while it was timed" in row["why"]
    assert found["choice"]["buoy"] == "gcc-12 -O1 -DLIMIT=2000000000"


def test_the_choice_among_the_tied_is_the_one_with_least_code() -> None:
    result = summarise([measurements(3, [1e-6, 1e-6, 5e-6], noise=0.002)], "c0")
    costs = {
        "c0": Cost(90, compile_time([0.1] * 5), "gcc -O3"),
        "c1": Cost(30, compile_time([0.9] * 5), "gcc -O2"),
        "c2": Cost(5, compile_time([0.1] * 5), "gcc -Os"),
    }
    wrong = Verdict("surge", "f", "b", "c9", "wrong", "returned 1, expected 2", 3)
    right = [wrong._replace(candidate=f"c{k}", verdict="correct", why="") for k in range(3)]
    made = pick("surge", result, [*right, wrong], costs)
    assert made.choice == "c1" and set(made.tied) == {"c0", "c1"}
    assert [row.word for row in made.ranking][2] == "slower"
    assert made.excluded == (wrong,) and made.command == "gcc -O2"
    wild = summarise([measurements(3, [1e-6, 1.03e-6], 10, noise=0.5)], "c0")
    open_one = pick("surge", wild, right, costs)
    assert {row.rank for row in open_one.ranking} == {1, None} and "more seconds" in open_one.why
    nothing = pick("surge", None, [wrong], {})
    assert nothing.choice is None and nothing.why


def test_words_need_both_the_interval_and_the_floor() -> None:
    interval = trimmed_interval(np.full(10, 0.02), 0.01)
    assert interval.half_width == pytest.approx(0, abs=1e-12)
    assert word_for(interval, 0.01, 0) == "slower"
    assert word_for(interval, 0.03, 0) == "tied"
    assert word_for(interval._replace(half_width=0.2), 0.01, 0.2) == "not enough data"
    # Open because of placement: more data would not help.
    assert word_for(interval._replace(half_width=0.2), 0.01, 0.001) == "tied"


WORK = """
long swell(const long *heights, int n)
{
    long sum = 0;
    for (int r = 0; r < REPEAT; r++)
        for (int i = 0; i < n; i++)
            sum += heights[i] * (sum + r);
    return sum;
}
"""


def measured(tmp_path: Path, *builds: str) -> Any:
    source = tmp_path / "swell.c"
    source.write_text(WORK)
    words = [word for build in builds for word in ("--build", build)]
    return document(
        "pick", source, *words, "--inputs", 'heights = { fill = "zeros", count = 500 }',
        "--inputs", "n = 500", "--seconds", "0.5",
    )  # fmt: skip


def test_three_times_the_work_is_slower_and_the_very_same_code_is_equal(tmp_path: Path) -> None:
    # The result is zero whatever REPEAT is: all builds are correct.
    two = "-DREPEAT=2"
    found = measured(tmp_path, f"gcc -O1 {two}", f"gcc -O1 {two} -DUNUSED", "gcc -O1 -DREPEAT=6")
    rows = {row["candidate"]: row for row in found["ranking"]}
    assert not found["excluded"]
    heavy = rows["gcc-12 -O1 -DREPEAT=6"]
    assert heavy["word"] == "slower" and heavy["ratio"] > 2
    copy = rows[f"gcc-12 -O1 {two} -DUNUSED"]
    assert copy["same_as"] == f"gcc-12 -O1 {two}" and copy["ratio"] == 1.0
    assert found["choice"]["swell"] != "gcc-12 -O1 -DREPEAT=6"
    assert {row["candidate"] for row in found["tied"]} == set(rows) - {heavy["candidate"]}


def test_the_same_loop_twice_is_not_told_apart(tmp_path: Path) -> None:
    # Other bytes (the name of a string), the same instructions in the loop.
    found = measured(tmp_path, "gcc -O1 -DREPEAT=2", "gcc -O1 -DREPEAT=2 -fno-stack-protector -g")
    assert all(row["word"] in ("best", "tied", "not enough data") for row in found["ranking"])


def test_measure_gives_times_ratios_intervals_and_a_floor(demo: Path) -> None:
    found = document("measure", demo, "--snippet", "crossings", "--seconds", "0.2", "--seed", "4")
    assert [row["candidate"] for row in found["excluded"]] == [
        f"crossings_mixed@gcc-12:{flags}" for flags in ("plain", "lean", "fast", "wide")
    ]
    base = [row for row in found["results"] if row["word"] == "baseline"]
    assert len(base) == 1 and base[0]["ratio"] == 1.0
    for row in found["results"]:
        assert 1e-9 < row["quiet_seconds"] <= row["seconds_per_call"] < 1e-3
        assert row["low"] <= row["ratio"] <= row["high"]
    (contest_row,) = found["measurements"]
    assert contest_row["noise_floor"] >= 0.01 and contest_row["generations"] >= 10
    text = hot_anvil("measure", demo, "--snippet", "crossings", "--seconds", "0.2").stdout
    assert re.search(r"wrong: returned .*\n +crossings_mixed@gcc-12:plain, ", text)
    assert "noise floor" in text


@pytest.mark.parametrize("form", ["builds", "entries", "apart"])
def test_trials_of_known_pairs_find_no_false_difference(form: str) -> None:
    script = Path(__file__).parents[2] / "benchmarks" / "trials.py"
    ran = subprocess.run(
        [sys.executable, script, "--trials", "1", "--seconds", "0.3", "--form", form,
         "--only", "chain, 1 us"],
        capture_output=True, text=True, timeout=300,
    )  # fmt: skip
    assert ran.returncode == 0, ran.stdout + ran.stderr
    assert re.search(r"^chain, 1 us +equal +hot-anvil", ran.stdout, re.M)
    assert re.search(r"^hot-anvil: .*wrong direction: 0 of 1$", ran.stdout, re.M)
