"""What experiments came to, as people and programs read it: all of it, and nothing more."""

import json

import pytest

from hot_anvil.core.experiments.exploring import flag_sets
from hot_anvil.core.experiments.records import Edit, Experiment
from hot_anvil.core.experiments.results import (
    MEASURED,
    NO_CHANGE,
    NOT_TIMED,
    REFUSED,
    SAME,
    WRONG,
    Broken,
    State,
    Tried,
    WhatIf,
)
from hot_anvil.core.flags.records import (
    GIVEN,
    OPTIMISER,
    Change,
    Effect,
    Narrowed,
    Needed,
    Timed,
)
from hot_anvil.core.measure.summary import Comparison, RatioVerdict, Result
from hot_anvil.core.measure.verdict_words import BASELINE, FASTER, NOT_ENOUGH, SLOWER, Word
from hot_anvil.core.results.answers import Answer
from hot_anvil.core.results.packing import pack, unpack
from hot_anvil.core.results.tables import table_of
from hot_anvil.core.toolchain.records import Family, FlagExperiment
from hot_anvil.views.json.narrow import narrow_document
from hot_anvil.views.json.whatif import whatif_document
from hot_anvil.views.text.narrow import narrow_report
from hot_anvil.views.text.whatif import whatif_report

EDIT = (Edit("surge.c", 0, 0, "x"),)


def result(candidate: str, ratio: float, word: Word, width: float = 0.02) -> Result:
    told = RatioVerdict(ratio, ratio * (1 - width), ratio * (1 + width), word)
    over = Comparison(told, 0.01, "", None, None, None, ())
    return Result("surge", "", candidate, 2e-6 * ratio, None, None, None, over, "", 1.3)


def tried(name: str, state: State, ratio: float = 0, word: Word = FASTER, **more: object) -> Tried:
    experiment = Experiment(name, "a reason", str(more.pop("promise", "")), (name,))
    row = Tried(experiment, f"gcc-12 -O2 + {name}", state, command=f"gcc-12 -O2 {name} -c surge.c")
    timed = result(name, ratio, word) if ratio else None
    return row._replace(result=timed, code_bytes=90, instructions=20, **more)  # type: ignore[arg-type]


def whatif(*rows: Tried, **more: object) -> WhatIf:
    base = result("gcc-12 -O2", 1.0, BASELINE, 0)
    made = WhatIf("surge", "surge", "gcc-12 -O2", rows, base, 40, 0.02)
    return made._replace(**more)  # type: ignore[arg-type]


FOUND = whatif(
    tried("restrict levels", MEASURED, 0.4, promise="the buffers overlap nothing",
          reasons=("the loop is vectorised",), patch="--- a\n+++ b\n",
          broken=Broken("by = levels + 1 element, n=8", "levels[3] is 9, expected 8"),
          tested="buffers that overlap by all but one element"),
    tried("-fassociative", MEASURED, 0.5, promise="last bits", ulp=542.0,
          tested="results to the bit"),
    tried("-march=quay-v2", MEASURED, 0.6, promise="newer processors"),
    tried("-ftide", MEASURED, 0.7, promise="tides are calm",
          broken=Broken("storm", "returned 1, expected 0")),
    tried("-fhardly", MEASURED, 0.98),
    tried("-fnoise", MEASURED, 0.9, NOT_ENOUGH),
    tried("-fworse", MEASURED, 1.4, SLOWER),
    tried("-fwrapv", NO_CHANGE),
    tried("-O3", SAME, same_as="-ftide"),
    tried("inline feet", REFUSED, why="surge.c:4: 'feet' undeclared"),
    tried("pure feet", WRONG, why="wrong: returned 3, expected 4"),
    tried("-flate", NOT_TIMED),
    said=("line 4: couldn't vectorize loop: statement clobbers memory",),
)  # fmt: skip


@pytest.mark.parametrize("width", [60, 80, 200])
def test_gains_are_told_with_all_that_they_rest_on(width: int) -> None:
    text = whatif_report([FOUND], ("a busy machine",), width).text
    flat = " ".join(text.split())
    for said in (
        "surge under gcc-12 -O2", "2.00 us a call, 40 B",
        "its compiler says, line 4: couldn't vectorize loop",
        "0.400x restrict levels 0.392 to 0.408", "the loop is vectorised",
        "promise: the buffers overlap nothing",
        "does not hold of every input: levels[3] is 9, expected 8 (by = levels + 1 element, n=8)",
        "an edit: --patch writes it", "placement alone changes it 1.30x",
        "not broken by results to the bit; floats are off by up to 542 ulp",
        "promise: newer processors (not put to the test)",
        "0.700x -ftide 0.686 to 0.714 promise: tides are calm; an input breaks it",
        "no gain is told of: -fhardly (0.980x, faster), -fnoise (0.900x, not enough data)",
        "change no code: -fwrapv", "make code that another one made: -O3", "not timed: -flate",
        "pure feet is out: wrong: returned 3, expected 4",
        "inline feet is refused: surge.c:4: 'feet' undeclared", "12 experiments in all",
    ):  # fmt: skip
        assert said in flat, said
    wide = [line for line in text.split("\n") if len(line) > width and "-c surge.c" not in line]
    assert not wide


def test_nothing_is_claimed_where_nothing_gains() -> None:
    none = whatif(tried("-fhardly", MEASURED, 0.98), tried("-fnoise", MEASURED, 0.7, NOT_ENOUGH))
    assert none.best is None and not any(one.gain for one in none.tried)
    assert "nothing that was tried is told faster" in whatif_report([none], (), 80).text
    cut = whatif(tried("-fhardly", NOT_TIMED), interrupted=True, base=None)
    text = whatif_report([cut], (), 80).text
    assert "interrupted: what is shown was done" in text and "is told faster" not in text


def test_an_answer_is_kept_whole_and_is_a_table_and_a_document() -> None:
    answer = Answer("whatif", (FOUND,), ("a note",))
    again = unpack(json.loads(json.dumps(pack(answer))))
    assert again == answer and again.snippets == ("surge",)
    (entry,) = json.loads(json.dumps(whatif_document([FOUND], ["a note"])))["entries"]
    assert entry["best"] == "restrict levels" and entry["experiments"][0]["gain"]
    assert [e["state"] for e in entry["experiments"]][-5:] == [
        "no change", "same", "refused", "wrong", "not timed",
    ]  # fmt: skip
    table = table_of([FOUND])
    by_name = {row[3]: dict(zip(table.columns, row, strict=True)) for row in table.rows}
    assert by_name["restrict levels"]["broken"] == "levels[3] is 9, expected 8"
    assert by_name["-fwrapv"]["ratio"] is None and by_name["-flate"]["state"] == "not timed"


SPLIT = Change(OPTIMISER, ("-fsplit",), ("-fno-split",))
DROPPED = Change(GIVEN, (), ("-Dold",), ("-Dold",))
MADE = Narrowed(
    "surge", "surge", "surge", "gcc-12 -O2 -Dold", "gcc-12 -O3", False, 14,
    (
        Needed(SPLIT, Effect(True, "", (), 20, 20), Effect(False, "", ("it is split",), 20, 50)),
        Needed(DROPPED, Effect(None, "it clashes", (), None, None), Effect(True, "", (), 50, 50)),
    ),
    ("-O2", "-fsplit"), "gcc-12 -O2 -fsplit -c surge.c", "gcc-12 -O3 -c surge.c", "", "",
    "quay-v2", (), (), True, True, 23, ("-fodd",), 2,
    (
        Timed("gcc-12 -O2 -Dold", "left", "", "correct", "", result("a", 1.0, BASELINE, 0)),
        Timed("gcc-12 -O3", "right", "", "wrong", "returned 1", None),
        Timed("x", "right without it", "-fsplit", "correct", "", result("x", 0.5, FASTER)),
    ),
)  # fmt: skip


def test_what_matters_is_told_with_what_each_does() -> None:
    flat = " ".join(narrow_report([MADE], 100).text.split())
    for said in (
        "2 of 14 differences make the code of gcc-12 -O3 (23 compiles)",
        "-fsplit alone, added to the left: changes nothing",
        "taken from the right: 50 -> 20 instructions; with it, it is split",
        "without -Dold alone, added to the left: refused: it clashes",
        "the same code: another of its flags does this too",
        "say gcc-12 -O2 -fsplit -c surge.c", "no one of the 2 flags can be left out",
        "it runs on every quay-v2 processor", "refused when given: -fodd",
        "right without -fsplit", "wrong returned 1",
    ):  # fmt: skip
        assert said in flat, said
    none = " ".join(narrow_report([MADE._replace(fault="nobody knows", timed=())], 80).text.split())
    assert "not known: nobody knows" in none and "say" not in none.split()
    same = narrow_report([MADE._replace(same=True, timed=())], 80).text
    assert "the same code under both" in same and "instead of" not in same
    whole = narrow_report([MADE._replace(saves=False, level="", beyond=("-mspray",))], 80).text
    assert "nothing less than the flags of gcc-12 -O3" in whole
    assert "no standard level of processors has -mspray" in " ".join(whole.split())


def test_a_set_is_a_document_and_a_table() -> None:
    (row,) = json.loads(json.dumps(narrow_document([MADE])))["narrowed"]
    assert row["flags"] == ["-O2", "-fsplit"] and row["level"] == "quay-v2"
    assert row["needed"][1]["dropped"] == ["-Dold"] and row["needed"][1]["alone"]["why"]
    assert row["timed"][1]["ratio"] is None and row["timed"][2]["ratio"] == 0.5
    (row,) = narrow_document([MADE._replace(fault="nobody knows")])["narrowed"]
    assert row["flags"] is None and row["command"] is None and row["why"] == "nobody knows"
    assert [cells[4:8] for cells in table_of([MADE]).rows] == [
        ("-fsplit", "optimiser", "left", True), ("-fsplit", "optimiser", "right", False),
        ("without -Dold", "given", "left", None), ("without -Dold", "given", "right", True),
    ]  # fmt: skip


def test_flag_sets_promise_nothing_and_keep_what_all_builds_have(
    families: dict[str, Family],
) -> None:
    gcc = families["gcc"]._replace(
        experiments=(
            FlagExperiment(("-ftide",), "why"),
            FlagExperiment(("-fcalm",), "why", "tides are calm"),
            FlagExperiment(("-flto",), "why", several=True),
            FlagExperiment(("-mwave",), "why", isas=("avr",)),
        )
    )
    own = [("-O0", "-DQUAY", "-g"), ("-O3", "-g", "-DQUAY")]
    found = list(flag_sets(gcc, "x86", own, ["-march=quay-v2"]))
    assert len(found) == 4 * 2 * 2 == len(set(found))
    assert all(one[-2:] == ("-DQUAY", "-g") for one in found)
    assert ("-O2", "-march=quay-v2", "-ftide", "-DQUAY", "-g") in found
    assert not any({"-fcalm", "-flto", "-mwave", "-O0"} & set(one) for one in found)
