"""One build for all machines, dispatches, turnovers; merging what nothing joins."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hot_anvil.core.fleet.blocks import join_blocks
from hot_anvil.core.fleet.choosing import ClassTimes, Ratio, choose
from hot_anvil.core.fleet.merging import Source, merge
from hot_anvil.core.measure.summary import summarise
from hot_anvil.core.measure.verdict_words import NOT_ENOUGH, SLOWER, TIED
from made_measurements import measurements


def times(
    own_name: str, ratios: dict[str, float], half: float = 0.01, weight: float = 1
) -> ClassTimes:
    """Return times of a class, each ratio known to ``half``, the fastest exactly."""
    own = {
        name: Ratio(value, value / (1 + half), value * (1 + half)) if value > 1 else Ratio(1, 1, 1)
        for name, value in ratios.items()
    }
    return ClassTimes(own_name, weight, own, min(ratios, key=lambda k: ratios[k]))


def test_the_worst_class_decides() -> None:
    quay = times("quay", {"wide": 1.0, "plain": 1.3, "both": 1.1})
    pier = times("pier", {"wide": 2.0, "plain": 1.0, "both": 1.2})
    found = choose("surge", [quay, pier])
    assert [one.candidate for one in found.ranking] == ["both", "plain", "wide"]
    first = found.ranking[0]
    assert (first.worst.value, first.worst_class) == (1.2, "pier")
    assert first.mean.value == pytest.approx(math.sqrt(1.1 * 1.2))
    assert found.tied == ("both",)
    (dispatch,) = found.dispatches
    assert dict(dispatch.by_class) == {"quay": "wide", "pier": "plain"}
    assert dispatch.gain.value == pytest.approx(1 / math.sqrt(1.1 * 1.2))
    assert dispatch.gain.high < 1
    (turn, *more) = found.turnovers
    assert {turn.one, turn.other} == {"wide", "plain"}
    ratio = {turn.first: turn.ratio_first.value, turn.second: turn.ratio_second.value}
    assert sorted(ratio.values()) == pytest.approx([1 / 1.3, 2.0])
    assert all(t.ratio_first.high < 1 < t.ratio_second.low for t in (turn, *more))


def test_weights_move_the_mean_and_not_the_worst() -> None:
    rows = [("quay", {"a": 1.0, "b": 1.2}), ("pier", {"a": 1.2, "b": 1.0})]
    light = choose("surge", [times(*rows[0]), times(*rows[1], weight=9)])
    assert [one.candidate for one in light.ranking] == ["b", "a"]  # the mean breaks the tie
    assert light.ranking[0].worst.value == light.ranking[1].worst.value
    assert light.ranking[0].mean.value == pytest.approx(1.2**0.1)


def test_noise_makes_no_dispatch_and_no_turnover() -> None:
    quay = times("quay", {"a": 1.0, "b": 1.04}, half=0.1)
    pier = times("pier", {"a": 1.04, "b": 1.0}, half=0.1)
    found = choose("surge", [quay, pier])
    assert not found.dispatches and not found.turnovers
    assert set(found.tied) == {"a", "b"}


def test_what_a_class_cannot_run_is_for_a_dispatch_only() -> None:
    quay = times("quay", {"wide": 1.0, "plain": 2.0})
    pier = times("pier", {"plain": 1.0})
    found = choose("surge", [quay, pier])
    assert found.choice == "plain" and dict(found.missing) == {"wide": ("pier",)}
    assert dict(found.dispatches[0].by_class) == {"quay": "wide", "pier": "plain"}
    assert not choose("surge", [times("quay", {"a": 1.0}), times("pier", {"b": 1.0})]).choice


_RATIOS = st.lists(
    st.lists(st.floats(1.0, 8.0), min_size=4, max_size=4), min_size=1, max_size=4
)  # fmt: skip


@given(_RATIOS)
def test_no_other_build_is_better_at_worst(rows: list[list[float]]) -> None:
    classes = []
    for number, row in enumerate(rows):
        least = min(row)
        classes.append(times(f"k{number}", {f"c{k}": v / least for k, v in enumerate(row)}))
    found = choose("surge", classes)
    worst = {f"c{k}": max(own.ratios[f"c{k}"].value for own in classes) for k in range(4)}
    assert worst[found.choice or ""] == min(worst.values())
    for dispatch in found.dispatches:
        for own in classes:  # each class has the best of what is shipped
            chosen = own.ratios[dispatch.by_class[own.name]].value
            assert chosen == min(own.ratios[name].value for name in dispatch.candidates)
        assert dispatch.gain.low <= dispatch.gain.value <= dispatch.gain.high < 1


def test_blocks_of_machines_that_agree_narrow_the_interval() -> None:
    one, two = (measurements(seed, [1e-6, 1.1e-6], 40, noise=0.03) for seed in (1, 2))
    (joined,), left_out = join_blocks([[one], [two]])
    assert joined.machines == (40, 40) and not left_out
    alone = summarise([one], "c0").result("c1").comparison.verdict
    both = summarise([joined], "c0").result("c1").comparison.verdict
    assert both.word == SLOWER and both.high - both.low < alone.high - alone.low


def test_blocks_of_machines_that_do_not_agree_span_both() -> None:
    one = measurements(1, [1e-6, 1.02e-6], 40, noise=0.002)
    two = measurements(2, [1e-6, 1.20e-6], 40, noise=0.002)
    (joined,), _ = join_blocks([[one], [two]])
    told = summarise([joined], "c0").result("c1").comparison.verdict
    assert told.low < 1.025 and told.high > 1.195  # no mean of the two is claimed
    opposite = measurements(3, [1e-6, 0.9e-6], 40, noise=0.002)
    (joined,), _ = join_blocks([[two], [opposite]])
    told = summarise([joined], "c0").result("c1").comparison.verdict
    assert told.word in (NOT_ENOUGH, TIED) and told.low < 1 < told.high


def test_blocks_of_other_candidates_are_left_out() -> None:
    one, two = measurements(1, [1e-6, 2e-6]), measurements(2, [1e-6, 2e-6, 3e-6])
    joined, left_out = join_blocks([[one], [two]])
    assert joined == [one] and left_out == [1]


def source(
    seed: int, works: list[float], codes: str, origin: str = "", comparable: str = "a"
) -> Source:
    made = measurements(seed, works, noise=0.003)
    names = {f"c{k}": code for k, code in enumerate(codes) if code != "?"}
    text = f"Quay {comparable}, 2 CPUs"
    return Source(
        origin, seed, 1e9 + seed, f"m{seed}", text, comparable, "surge", (made,), "c0", names
    )


def test_merged_classes_never_mix_and_other_code_is_another_candidate() -> None:
    here = source(1, [1e-6, 2e-6], "AB")
    same = source(2, [1e-3, 2e-3], "AB", "pier.anvil", "b")  # far slower: another class
    found = merge([here, same], {})
    assert [one.name for one in found.classes] == ["quay-a", "quay-b"]
    (choice,) = found.choices
    assert choice.choice == "c0" and not choice.missing
    assert choice.ranking[1].worst.value == pytest.approx(2, rel=0.02)
    other = source(2, [2e-6, 1e-6], "AX", "pier.anvil", "b")
    (choice,) = merge([here, other], {}).choices
    assert choice.missing == {"c1": ("quay-b",), "c1 of pier.anvil": ("quay-a",)}
    unknown = source(2, [1e-6, 2e-6], "A?", "pier.anvil", "b")
    (choice,) = merge([here, unknown], {}).choices
    assert "c1 of pier.anvil" in choice.missing  # the same is said only of what is known


def test_merged_machines_of_one_class_are_blocks() -> None:
    here, there = source(1, [1e-6, 2e-6], "AB"), source(2, [1e-6, 2e-6], "AB", "quay2.anvil")
    older = source(0, [1e-6, 9e-6], "AB")._replace(machine="m1")
    found = merge([older, here, there], {})
    (own,) = found.classes
    assert len(own.sources) == 2  # the last of each machine
    assert found.choices[0].ranking[1].worst.value == pytest.approx(2, rel=0.02)
    lone = merge([here, there._replace(comparable="")], {})
    assert len(lone.classes) == 2 and "was not kept" in lone.notes[0]
