"""Times that a board or an instrument measured: units, runs, and mistakes by line."""

import math

import pytest

from hot_anvil.core.measure.imported_times import make_measurements, read_times
from hot_anvil.core.measure.summary import summarise
from hot_anvil.errors import RequestError

HEAD = "candidate,value,unit,calls,run\n"


@pytest.mark.parametrize(
    ("value", "seconds"),
    [
        ("412.5,us,1,a", 412.5e-6),
        ("2,s,1000,a", 2e-3),
        ("2.5,kHz,1,a", 4e-4),  # a period is one over it
        ("1600,cycles@16MHz,1,a", 1e-4),
        ("7,ns,,a", 7e-9),
    ],
)
def test_every_unit_is_seconds_of_one_call(value: str, seconds: float) -> None:
    (row,) = read_times(f"{HEAD}ebb@avr,{value}\n", "times.csv")
    assert row.seconds == pytest.approx(seconds) and row.candidate == "ebb@avr"


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("candidate,value\nebb,3\n", ["times.csv:1", "unit"]),
        ("candidate,value,unit,rum\n", ["times.csv:1", "'rum'", "'run'"]),
        (HEAD, ["no times"]),
        (f"{HEAD}ebb,3,us,1,a\nflow,-3,us,1,a\n", ["times.csv:3", "'-3'"]),
        (f"{HEAD}ebb,nan,us,1,a\n", ["times.csv:2", "'nan'"]),
        (f"{HEAD}ebb,3,fortnights,1,a\n", ["times.csv:2", "'fortnights'", "cycles@16MHz"]),
        (f"{HEAD}ebb,3,cycles@0MHz,1,a\n", ["times.csv:2", "no unit"]),
    ],
)
def test_mistakes_name_the_line(text: str, told: list[str]) -> None:
    with pytest.raises(RequestError) as caught:
        read_times(text, "times.csv")
    assert all(part in str(caught.value) for part in told), caught.value


def test_values_of_one_run_are_compared_with_each_other() -> None:
    """The board is twice as slow in every other run: only pairs within a run say anything."""
    lines = [
        f"{name},{value * slow},us,1,run{k}"
        for k, slow in enumerate([1.0, 2.0] * 6)
        for name, value in (("ebb", 10.0 + 0.01 * k), ("flow", 11.0))
    ]
    rows = read_times(HEAD + "\n".join(lines) + "\n", "times.csv")
    (made,) = make_measurements(rows, "surge", ["flow", "ebb", "absent"], "board")
    assert made.candidates == ("flow", "ebb") and len(made.generations) == 12
    (_, row) = summarise([made], "flow").results
    assert row.candidate == "ebb" and row.comparison.verdict.word == "faster"
    assert row.comparison.verdict.ratio == pytest.approx(10.05 / 11, rel=0.01)


def test_without_runs_the_first_values_are_one_run_and_what_is_missing_is_no_number() -> None:
    text = "candidate,value,unit\nebb,1,us\nebb,2,us\nflow,3,us\n"
    (made,) = make_measurements(read_times(text, "t"), "surge", ["ebb", "flow"], "board")
    first, second = (generation.times[0] for generation in made.generations)
    assert first[:2] == pytest.approx((1e-6, 3e-6))
    assert second[0] == pytest.approx(2e-6) and math.isnan(second[1])
