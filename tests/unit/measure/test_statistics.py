"""From measurements to answers: placements, scaling, history, same code, hotspots, the choice."""

import math
import subprocess
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hot_anvil.core.binary.elf import code_alignment
from hot_anvil.core.code.records import Code
from hot_anvil.core.measure.choosing import Cost, behind_best, flags_tied_to_cpu, pick
from hot_anvil.core.measure.code_identity import compare
from hot_anvil.core.measure.compile_times import compile_time
from hot_anvil.core.measure.history import (
    compare_states,
    series,
)
from hot_anvil.core.measure.hotspots import Seen, make_hotspots
from hot_anvil.core.measure.measurements import Measurements, position_of
from hot_anvil.core.measure.scaling import CURVES, crossings, fit_curve, fit_line, scalings
from hot_anvil.core.measure.statistics import blocked
from hot_anvil.core.measure.summary import Summary, summarise
from hot_anvil.core.model.call_graph import folded_into, reached
from hot_anvil.core.model.entry_body import Body, instructions_of
from hot_anvil.core.verify.verdicts import Verdict
from hot_anvil.system.build.worker_objects import PLACEMENTS
from made_measurements import PLACES, code, measurements, state


@settings(deadline=None)
@given(
    st.lists(st.floats(-1, 1), min_size=20, max_size=40),
    st.lists(st.floats(-1, 1), min_size=4, max_size=4),
)
def test_what_a_placement_adds_moves_the_mean_and_not_the_noise(
    values: list[float], added: list[float]
) -> None:
    blocks = np.arange(len(values)) % 4
    plain = blocked(np.array(values), blocks, 0.01)
    moved = blocked(np.array(values) + np.array(added)[blocks], blocks, 0.01)
    expected = plain.estimate.centre + sum(added) / 4
    assert moved.estimate.centre == pytest.approx(expected, abs=1e-9)
    assert moved.noise == pytest.approx(plain.noise, abs=1e-9)
    assert moved.estimate.half_width >= moved.narrows - 1e-12 >= moved.noise - 2e-12


def test_equal_code_that_each_placement_moves_by_itself_is_hardly_ever_told_apart() -> None:
    """Every candidate has a log-normal effect of its own, 8 %, at each placement."""
    false = 0
    for seed in range(150):
        places = np.random.default_rng(1000 + seed).normal(0, 0.08, (PLACES, 4))
        places[:, 3] = places[:, 0]  # the control is the first one's
        made = measurements(seed, [1e-6] * 3, noise=0.003, places=places)
        rows = summarise([made], "c0").results[1:]
        false += any(r.comparison.verdict.word in ("faster", "slower") for r in rows)
    assert false <= 3


def test_what_noise_alone_leaves_open_is_not_put_on_placement() -> None:
    """Wide for noise: more data would narrow it. Wide for placement: it would not."""
    noisy = summarise([measurements(11, [1e-6, 1e-6], 40, noise=0.12)], "c0").results[1].comparison
    assert noisy.visible > 0.05 and noisy.verdict.word == "not enough data"
    places = np.random.default_rng(2).normal(0, 0.12, (PLACES, 3))
    places[:, 2] = places[:, 0]  # the control is the first one's
    moved = measurements(11, [1e-6, 1e-6], 40, noise=0.005, places=places)
    told = summarise([moved], "c0").results[1].comparison
    assert told.visible > 0.05 and told.verdict.word == "tied" and told.depends == "placement"


def test_positions_in_a_cache_line_that_all_were_met_leave_nothing_open() -> None:
    """A loop is 40 % slower at one of four positions, another one for each candidate."""
    places = np.zeros((PLACES, 3))
    for column, position in enumerate((1, 3, 1)):
        places[position::4, column] = np.log(1.4)
    made = measurements(8, [1e-6, 1.03e-6], noise=0.003, places=places)
    there = made._replace(aligned=made.candidates)
    told = summarise([there], "c0").results[1].comparison
    assert told.verdict.word == "slower" and told.visible < 0.02 and told.depends == "placement"
    anywhere = summarise([made], "c0").results[1].comparison
    assert anywhere.verdict.word == "tied" and anywhere.visible > 0.1
    # With too few generations for each placement, positions will do.
    few = measurements(8, [1e-6, 1.03e-6], 20, noise=0.003, places=places)
    told = summarise([few._replace(aligned=few.candidates)], "c0").results[1].comparison
    assert told.verdict.word == "slower" and told.visible < 0.03 and not told.placements
    assert summarise([few], "c0").results[1].comparison.visible > 0.1
    # What two placements of one position differ by is left open all the same.
    places[2, 1] = np.log(1.4)
    open_one = summarise([measurements(8, [1e-6, 1.03e-6], noise=0.003, places=places)._replace(
        aligned=made.candidates)], "c0").results[1].comparison  # fmt: skip
    assert open_one.visible > 0.1


@pytest.mark.parametrize(("flags", "boundary"), [("-O2", 16), ("-Os", 1)])
def test_the_linker_may_put_optimised_code_at_few_positions_only(
    tmp_path: Path, flags: str, boundary: int
) -> None:
    (tmp_path / "ebb.c").write_text("int ebb(int n) { return n + 1; }\n")
    subprocess.run(["gcc", flags, "-c", "ebb.c"], cwd=tmp_path, check=True)
    assert code_alignment((tmp_path / "ebb.o").read_bytes()) == boundary
    met = Counter(position_of(placement) for placement in PLACEMENTS)
    assert met == {0: 2, 1: 2, 2: 2, 3: 2}
    assert len({placement % 16 for placement in PLACEMENTS}) == len(PLACEMENTS)


def sized(n: int, works: list[float]) -> Measurements:
    return measurements(n, works, noise=0.003)._replace(inputs=f"n={n}", numbers={"n": n})


def sizes(costs: Sequence[tuple[float, float]], points: Sequence[int]) -> list[Summary]:
    """Return what is measured of candidates that take (a call, an element) seconds."""
    return [summarise([sized(n, [a + b * n for a, b in costs])], "c0") for n in points]


def test_the_size_where_the_fastest_changes_is_between_those_measured() -> None:
    # Lines cross at n = 1000: 1 us + 1 ns n against 0.1 us + 1.9 ns n.
    made = sizes([(1e-6, 1e-9), (1e-7, 1.9e-9)], [10, 100, 10_000])
    (change,) = crossings(made)
    assert (change.below, change.above) == ("c1", "c0") and 100 < change.at < 10_000
    assert change.at == pytest.approx(1000, rel=0.3)  # straight between the logs: 2600
    lines = {line.candidate: line for line in scalings(made)}
    # Half of the batches meet a machine 1.8 times slower: costs are of all of them.
    assert lines["c1"].per_element / lines["c0"].per_element == pytest.approx(1.9, rel=0.1)
    assert all(line.straight for line in lines.values())
    assert not crossings(sizes([(1e-6, 1e-9), (1e-6, 1.002e-9)], [10, 10_000]))
    assert not scalings(made[:2])  # any two sizes lie on a line


def test_what_is_no_straight_line_is_said() -> None:
    points = [16, 64, 256, 1024]
    square = [summarise([sized(n, [1e-9 * n**2])], "c0") for n in points]
    (line,) = scalings(square)
    assert not line.straight and line.misfit > 0.5


@pytest.mark.parametrize("name", CURVES)
def test_how_times_grow_is_named_where_the_sizes_tell(name: str) -> None:
    points = [8, 64, 512, 4096, 32768]
    times = [5e-9 + 2e-9 * CURVES[name](n) for n in points]
    curve, misfit = fit_curve(points, times)
    assert curve == name and misfit < 0.01 < fit_line(points, times)[2]
    # Too few sizes, or too near to each other, carry no curve.
    assert fit_curve(points[:3], times[:3])[0] == fit_curve([8, 9, 10, 11], times[:4])[0] == ""


def test_two_states_compare_by_what_did_not_change() -> None:
    before = state(1, [1e-6, 2e-6, 3e-6], "abc")
    # The machine has become 1.5 times slower, and the second candidate's code by a fifth too.
    after = state(2, [1.5e-6, 3.6e-6, 4.5e-6], "axc")
    found = compare_states(before, after)
    assert found.yardstick == "c0" and not found.why_not
    told = {change.candidate: change.verdict for change in found.changes}
    assert told["c1"] and told["c1"].word == "slower"
    assert told["c1"].low < 1.2 < told["c1"].high and told["c1"].ratio == pytest.approx(1.2, 0.02)
    assert told["c2"] and told["c2"].word == "tied"
    assert [c.what for c in found.changes] == ["nothing", "code", "nothing"]
    assert [len(rows) for rows in series([after, before]).values()] == [2, 2, 2]


@pytest.mark.parametrize(
    ("codes", "machine", "why"),
    [("xyz", "m1", "no candidate has the same code"), ("abc", "m2", "different machines")],
)
def test_states_that_nothing_connects_are_not_compared(codes: str, machine: str, why: str) -> None:
    found = compare_states(state(1, [1e-6] * 3, "abc"), state(2, [1e-6] * 3, codes, machine))
    assert why in found.why_not and not found.yardstick
    assert all(change.verdict is None for change in found.changes)


def entry_body(own: Code, symbol: str, data_bytes: int) -> Body:
    symbol = folded_into(own, symbol)
    return Body(instructions_of(reached(own, symbol), symbol), data_bytes)


def test_bodies_are_the_same_whatever_their_labels_and_names() -> None:
    one = entry_body(code("ebb: mov .L7; jne .L2; jmp ebb", {".L7": "5"}), "ebb", 0)
    two = entry_body(code("flow: mov .L9; jne .L4; jmp flow", {".L9": "5"}), "flow", 0)
    other = entry_body(code("flow: mov .L9; jne .L4; jmp flow", {".L9": "6"}), "flow", 0)
    assert one.instructions == two.instructions != other.instructions
    # What is called makes the time too; what is only there does not.
    lone, both = "ebb: ret", "ebb: ret\nflow: nop"
    assert entry_body(code(lone), "ebb", 0) == entry_body(code(both), "ebb", 0)
    calling = both.replace("ret", "call flow")
    assert len(entry_body(code(calling), "ebb", 0).instructions) == 2


def test_a_function_reaches_what_it_names_and_a_folded_one_is_the_other() -> None:
    own = code("ebb: call flow; ret\nflow: lea tide(%rip)\nsea: jmp ebb\ntide: jmp tide\nlow: ret")
    names = [function.name for function in reached(own, "sea")]
    assert names == ["sea", "ebb", "flow", "tide"]
    assert folded_into(own, "sea") == "ebb" and folded_into(own, "tide") == "tide"
    assert entry_body(own, "sea", 0) == entry_body(own, "ebb", 0)
    assert reached(own, "surge") == ()


def test_the_same_instructions_are_no_reason_for_other_times_and_other_ones_may_tie() -> None:
    rows = summarise([measurements(3, [1e-6, 1.2e-6, 1e-6], noise=0.002)], "c0").results
    slow, tied = rows[1].comparison, rows[2].comparison
    own, larger, other = Body(("ret",), 4), Body(("ret",), 4096), Body(("nop", "ret"), 4)
    assert "not the code" in compare("c1", "c0", own, own, slow).text
    assert "4096 B against 4 B" in compare("c1", "c0", larger, own, slow).text
    assert compare("c1", "c0", other, own, slow).text == ""
    assert compare("c2", "c0", other, own, tied).text == "other instructions, same time"
    assert compare("c2", "c0", own, own, tied) == ("c2", "c0", True, "")


@settings(deadline=None)
@given(st.lists(st.lists(st.integers(0, 40), min_size=6, max_size=6), min_size=1, max_size=4))
def test_every_sample_is_counted_once_by_line_function_and_elsewhere(rows: list[list[int]]) -> None:
    both = code("ebb: mov; add; ret\nflow: nop; ret")
    # Addresses 0 to 2 are ebb's, 10 and 11 flow's, 99 is no known code.
    shifted = both.functions[1]._replace(
        instructions=tuple(i._replace(address=10 + i.address) for i in both.functions[1][3])
    )
    own = both._replace(functions=(both.functions[0], shifted))
    seen = [
        Seen(Counter(dict(zip((0, 1, 2, 11, 99), r, strict=False))), Counter({"libm": r[5]}))
        for r in rows
    ]
    found = make_hotspots("c0", "", 1e-6, own, seen, lambda at: ("surge.c", at % 10 + 1))
    total = sum(map(sum, rows))
    assert found.samples == total and found.processes == len(rows)
    assert sum(share.samples for _, share in found.functions) == total
    outside = sum(share.samples for _, share in found.elsewhere)
    assert sum(line.share.samples for line in found.lines) + outside == total
    assert outside == sum(r[4] + r[5] for r in rows)
    for line in found.lines:
        assert sum(i.share.samples for i in line.instructions) == line.share.samples
        assert 0 <= line.share.share <= 1 and line.share.error > 0


CORRECT = Verdict("surge", "f", "b", "c0", "correct", "", 3)
RIGHT = [CORRECT._replace(candidate=f"c{k}") for k in range(4)]
COSTS = {
    "c0": Cost(90, compile_time([0.1] * 5), "gcc -O3"),
    "c1": Cost(30, compile_time([0.9] * 5), "gcc -O2 -march=native", ("-march=native",)),
    "c2": Cost(60, compile_time([0.5] * 5), "gcc -O1"),
    "c3": Cost(20, compile_time([0.2] * 5), "gcc -Os"),
}


def test_preferences_decide_among_the_tied_alone() -> None:
    made = summarise([measurements(3, [1e-6, 1e-6, 1.001e-6, 1.2e-6], noise=0.002)], "c0")
    chosen = {
        first: pick("surge", made, RIGHT, COSTS, (first,)).choice
        for first in ("code", "portable", "compile")
    }
    assert chosen == {"code": "c1", "portable": "c2", "compile": "c0"}
    ranking = pick("surge", made, RIGHT, COSTS).ranking
    front = {row.candidate for row in ranking if row.undominated}
    assert front == {"c0", "c1", "c2", "c3"}  # each has the least of something, or lies between
    worse = COSTS | {"c2": Cost(90, compile_time([0.5] * 5), "gcc -O1")}
    front = {r.candidate for r in pick("surge", made, RIGHT, worse).ranking if r.undominated}
    assert "c2" not in front
    assert flags_tied_to_cpu(("-O3", "-mtune=native", "-mavx2")) == ("-mtune=native",)


def test_what_the_choice_is_worth_and_what_may_turn_it_over_is_said() -> None:
    made = summarise([measurements(5, [2e-6, 1e-6], noise=0.002)], "c0")
    won = pick("surge", made, RIGHT[:2], COSTS, share=0.5)
    assert won.choice == "c1" and won.gain == pytest.approx(0.75, abs=0.01)  # Amdahl
    assert pick("surge", made, RIGHT[:2], COSTS).gain is None
    # 10 % apart, but one of them is doubled at one placement of eight.
    places = np.zeros((PLACES, 3))
    places[3, 1] = math.log(2)
    places[0:2, 0] = places[0:2, 2] = math.log(1.2)
    unsure = summarise([measurements(6, [1.3e-6, 1e-6], 80, 0.002, places)], "c0")
    assert unsure.results[1].placement_spread == pytest.approx(2, rel=0.05)
    told = pick("surge", unsure, RIGHT[:2], COSTS)
    assert "order may turn over" in told.caution or unsure.results[1].comparison.depends
    load = summarise([measurements(4, [1e-6, 1.1e-6], noise=0.003, busy=[0.6, 0.4, 0.6])], "c0")
    assert "depends on the load" in pick("surge", load, RIGHT[:2], COSTS).caution


def test_nothing_is_faster_than_the_best() -> None:
    made = summarise([measurements(9, [1e-6, 1e-6, 1.03e-6], noise=0.002)], "c0")
    words = {name: behind_best(made, name).verdict.word for name in made.to_best}
    assert words[made.best] == "best" and "faster" not in words.values()
