"""Verdicts on the shipped pitfalls: each broken entry by name and line, and no false alarm."""

import shutil
import tomllib
from collections import defaultdict
from pathlib import Path
from typing import Any

import pytest

from conftest import document, hot_anvil
from hot_anvil.api import open_bench
from hot_anvil.core.names import listed
from hot_anvil.core.trace.parting import Agreement, Parting

PITFALLS = Path(__file__).parents[2] / "src" / "hot_anvil" / "data" / "pitfalls"
TRUTH: dict[str, Any] = tomllib.loads(
    (Path(__file__).parents[1] / "corpus" / "verdicts.toml").read_text()
)


@pytest.fixture(scope="module")
def found(tmp_path_factory: pytest.TempPathFactory) -> Any:
    """The check of all pitfalls, with two flag sets to save time."""
    folder = tmp_path_factory.mktemp("pitfalls") / "bench"
    shutil.copytree(PITFALLS, folder)
    bench = folder / "anvil.toml"
    bench.write_text(bench.read_text().replace('["plain", "even", "fast"]', '["plain", "fast"]'))
    answer = document("check", folder, "--call-seconds", "1", "--repeat", "16", code=1)
    return {**answer, "folder": folder}


def by_entry(found: Any) -> dict[str, dict[str, Any]]:
    """Return entry -> build -> verdict."""
    made: dict[str, dict[str, Any]] = defaultdict(dict)
    for row in found["verdicts"]:
        made[row["entry"]][row["build"]] = row
    return made


def places(found: Any, entry: str) -> set[str]:
    """Return every line, as file:line, that is named for an entry's failures."""
    told = {f"{p['file']}:{p['line']}" for row in by_entry(found)[entry].values()
            if (p := row["place"])}  # fmt: skip
    rows = by_entry(found)[entry].values()
    words = [word for row in rows for text in row["suspects"] for word in text.split()]
    told |= {word.rstrip(":") for word in words}
    own = [u for u in found["undefined"] if u["entry"] == entry and u["place"]]
    return told | {f"{u['place']['file']}:{u['place']['line']}" for u in own}


def test_the_set_is_as_large_as_it_says(found: Any) -> None:
    entries = set(by_entry(found))
    assert set(TRUTH) <= entries
    assert len(TRUTH) >= 30 and len(entries - set(TRUTH)) >= 40


def test_sound_code_is_correct_under_every_build(found: Any) -> None:
    for entry, builds in by_entry(found).items():
        bad = {b: (row["verdict"], row["why"]) for b, row in builds.items()
               if row["verdict"] != "correct"}  # fmt: skip
        assert entry in TRUTH or not bad, f"{entry}: {bad}"
    tainted = {u["entry"] for u in found["undefined"] if not u["edge"]}
    assert tainted <= set(TRUTH)


@pytest.mark.parametrize("entry", TRUTH)
def test_broken_code_gets_its_verdict_and_its_line(found: Any, entry: str) -> None:
    truth, builds = TRUTH[entry], by_entry(found)[entry]
    states = {build: row["verdict"] for build, row in builds.items()}
    # What is shown to be undefined is nowhere correct, whatever comes out of it.
    fine = "undefined" if truth.get("undefined") else "correct"
    assert set(states.values()) <= {fine, *truth["verdicts"]}, states
    for build in truth.get("shown", ()):
        assert states.get(build, truth["verdicts"][0]) in truth["verdicts"], (build, states)
    taints = [u for u in found["undefined"] if u["entry"] == entry and not u["edge"]]
    assert bool(taints) or not truth.get("undefined"), "undefined behaviour was not told"
    if "line" in truth:
        named = places(found, entry)
        wanted = lines_of(found, entry, truth["line"], truth.get("lines", 0))
        assert named & wanted, f"{listed(sorted(named))}; to blame: {listed(sorted(wanted))}"


def lines_of(found: Any, entry: str, text: str, after: int) -> set[str]:
    """Return where a line stands in the source of an entry, and so many lines after it."""
    out = set()
    for file in found["folder"].glob("*.c"):
        lines = [line.strip() for line in file.read_text().split("\n")]
        if any(entry + "(" in line for line in lines):
            at = [number for number, line in enumerate(lines, 1) if line == text]
            out |= {f"{file.name}:{n + more}" for n in at for more in range(after + 1)}
    return out


def test_a_failing_input_is_small_and_can_be_called_again(found: Any) -> None:
    row = by_entry(found)["crossings_mixed"]["gcc-12:fast"]
    size = {one["parameter"]: one["value"] for one in row["smallest"]}["n"]
    assert int(size) < 40 and row["smallest_why"]
    replay = document("check", found["folder"], "--replay", row["replay"], code=1)
    assert (replay["verdict"], replay["why"]) == ("wrong", row["smallest_why"])
    assert replay["inputs"] == row["smallest"]
    source = found["folder"] / "crossings.c"
    text = source.read_text()
    source.write_text(text.replace("uint32_t alarm", "int32_t alarm"))  # mended
    try:
        assert document("check", found["folder"], "--replay", row["replay"])["verdict"] == "correct"
    finally:
        source.write_text(text)
    unknown = hot_anvil("check", found["folder"], "--replay", "nothing")
    assert unknown.returncode == 2 and "no input set is kept" in unknown.stderr


def test_tallies_count_every_run(found: Any) -> None:
    unstable = [row for row in found["verdicts"] if row["tally"]]
    assert unstable
    for row in unstable:
        times = [kind["times"] for kind in row["tally"]]
        assert len(times) > 1 and sum(times) in (16, 60) and times == sorted(times, reverse=True)


def test_the_largest_error_is_told_even_where_it_is_tolerated(found: Any) -> None:
    rows = by_entry(found)["dot"]
    assert rows["gcc-12:fast"]["error"] is None
    loose = rows["gcc-12:loose"]
    assert loose["verdict"] == "correct" and 0 < loose["error"]["relative"] < 1e-4
    flags = by_entry(found)["mean_height"]["gcc-12:loose"]["suspects"]
    assert any("-ffast-math" in text for text in flags)


def test_stepping_two_builds_names_the_line_to_blame(found: Any) -> None:
    """Of wrong candidates with a line to blame most are told by it, none by one before it."""
    anvil = open_bench(found["folder"])
    named = early = count = 0
    for row in found["verdicts"]:
        place, replay = row["place"], row["replay"]
        if row["verdict"] != "wrong" or not place or not replay:
            continue
        left, right = anvil.step(replay=replay)
        parting = anvil.part_steps(left, right)
        assert isinstance(parting, Parting), row["candidate"]
        _, line = parting.place(left.entry == right.entry)
        count += 1
        named += line == place["line"]
        early += 0 < line < place["line"]
    assert count >= 25 and named >= 0.8 * count and not early, (named, early, count)


def test_stepping_two_right_builds_finds_no_disagreement(found: Any) -> None:
    anvil = open_bench(found["folder"])
    sound = [row for row in found["verdicts"] if row["verdict"] == "correct" and row["entry"]]
    pairs = 0
    for row in sound[::9]:
        if row["snippet"].startswith(("whim", "watch", "sound_memory")):
            continue
        left, right = anvil.step(
            [f"{row['entry']}@gcc-12:plain", f"{row['entry']}@{row['build']}"], [row["snippet"]]
        )
        said = anvil.part_steps(left, right)
        assert isinstance(said, Agreement), (row["candidate"], said)
        pairs += 1
    assert pairs >= 10
