"""Records of optimisation in each compiler's form, down to their odd corners."""

import json
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import document, hot_anvil
from hot_anvil.core.remarks import gnu, llvm, rust
from hot_anvil.core.remarks.records import (
    ANALYSIS,
    DONE,
    KINDS,
    MISSED,
    Cause,
    Remark,
    totals,
    without_repeats,
)
from hot_anvil.core.remarks.table import (
    Answered,
    SnippetRemarks,
    Span,
    Wanted,
    by_line,
    not_vectorised,
    symbols_named,
)
from hot_anvil.errors import RequestError


def record(kind: str, message: list[Any], line: int = 0, **more: Any) -> dict[str, Any]:
    place = {"location": {"file": "a.c", "line": line, "column": 3}} if line else {}
    return {"kind": kind, "message": message, "pass": "0x2", "function": "f", **place, **more}


def test_gnu_passes_are_looked_up_where_they_nest() -> None:
    passes = [{"id": "0x1", "name": "loop", "children": [{"id": "0x2", "name": "vect"}]}]
    records = [
        record("scope", ["=== analyze ==="], children=[
            record("failure", ["step unknown.\n"], 4),
            record("note", [{"stmt": "s = 1;", "location": {"line": 9}}, " seen\nand more"], 4),
        ]),
        record("failure", ["no ", {"expr": "a[i]"}, " at ", {"symtab_node": "g/2"}], 5),
        record("failure", ["couldn't vectorize loop\n"], 4),
        record("failure", [], 6),
        {"kind": "success", "pass": "0x9", "message": ["Inlining g/2 into f/1."],
         "inlining_chain": [{"fndecl": "inner"}, {"fndecl": "f", "site": {}}]},
    ]  # fmt: skip
    found = list(gnu.read_records(json.dumps([{"format": "1"}, passes, records])))
    assert [(r.kind, r.line, r.depth, r.text) for r in found] == [
        (MISSED, 4, 1, "step unknown."), (ANALYSIS, 4, 1, "s = 1; seen"),
        (MISSED, 5, 0, "no a[i] at g/2"), (MISSED, 4, 0, "couldn't vectorize loop"),
        (MISSED, 6, 0, ""), (DONE, 0, 0, "Inlining g/2 into f/1."),
    ]  # fmt: skip
    assert found[3].why == (Cause("a.c", 5, "no a[i] at g/2"),)
    assert [r.step for r in found] == ["vect"] * 5 + [""] and found[5].function == "f"
    with pytest.raises(ValueError, match="list of generator"):
        list(gnu.read_records("{}"))


YAML = """--- !Missed
Pass:            inline
Name:            NoDefinition
DebugLoc:        { File: '/usr/lib/quay''s/gauge.h',
                   Line: 238, Column: 7 }
Function:        "_Z1fv"
Args:
  - Callee:          free
    DebugLoc:        { File: b.c, Line: 1, Column: 0 }
  - String:          ' will not be: '
  - Reason:          "tab\\tquote\\""
  - String:          two lines
                     of one value
Hotness:         30
...
--- !Analysis
Pass:            loop-vectorize
Name:            Odd
DebugLoc:        { File: a.c, Line: 11, Column: 12 }
Function:        f
Args:
  - String:          'loop not vectorized: '
  - String:          because
...
--- !Missed
Pass:            loop-vectorize
Name:            MissedDetails
Function:        f
Args:
  - String:          loop not vectorized
...
"""


def test_llvm_documents_are_read_without_a_yaml_reader() -> None:
    first, second, third = llvm.read_records(YAML)
    assert first[:3] == ("/usr/lib/quay's/gauge.h", 238, 7) and first.function == "_Z1fv"
    assert first.text == 'free will not be: tab quote"two lines of one value'
    assert (second.kind, second.line, second.why) == (ANALYSIS, 11, ())
    assert (third.line, third.why) == (0, (Cause("a.c", 11, "loop not vectorized: because"),))


def test_rust_messages_are_parted_from_the_rest() -> None:
    lines = [
        {"level": "warning", "message": "unused"},
        {"level": "note", "message": "q/a.rs:4:41 loop-vectorize (missed): loop not vectorized"},
        {"level": "note", "message": "<unknown file>:0:0 inline (success): 'g' inlined into 'f' x"},
        {"level": "note", "message": "only a note"},
    ]
    text = "\n".join(json.dumps(line, separators=(",", ":")) for line in lines)
    first, second = rust.read_records(text)
    assert (first.file, first.line, first.column, first.kind) == ("q/a.rs", 4, 41, MISSED)
    assert (second.file, second.kind, second.function) == ("", DONE, "f")


remarks = st.builds(
    Remark, st.sampled_from(["a.c", "b.c"]), st.integers(0, 4), st.just(1),
    st.sampled_from(["f", "g", ""]), st.sampled_from(["vect", "inline", "asm-printer"]),
    st.sampled_from(KINDS), st.sampled_from(["", "one", "two"]), st.integers(0, 1), st.just(1),
    st.just(()),
)  # fmt: skip


@given(st.lists(remarks, max_size=30), st.booleans())
def test_what_is_shown_and_what_is_left_out_is_all_there_is(
    given: list[Remark], everything: bool
) -> None:
    kept = without_repeats(given)
    assert totals(kept) == totals(given) and len(set(kept)) == len(kept)
    one = SnippetRemarks("s", (Answered("b", kept, totals(kept), "same", ""),), {}, {}, {})
    lines, left_out = by_line(one, Wanted(everything=everything))
    shown = {(li.file, li.line, row) for li in lines for row in li.rows}
    assert left_out + sum(remark.times for remark in kept if Wanted(
        everything=everything).takes(remark)) == len(given)  # fmt: skip
    assert not everything or left_out == 0
    assert all(row.times >= 1 and row.builds == ("b",) for _, _, row in shown)
    hidden = [row for _, _, row in shown if row.kind == ANALYSIS or row.about == "code"]
    assert everything or not hidden


def test_functions_go_by_their_names_and_lines() -> None:
    said = Remark("a.c", 5, 1, "", "vect", MISSED, "x", why=(Cause("a.c", 6, "y"),))
    answer = Answered("b", (said, said._replace(line=9, function="_Z1gv")), {}, "same", "")
    one = SnippetRemarks("s", (answer,), {}, {"_Z1gv": "g()"}, {"f": Span("a.c", 4, 7)})
    assert symbols_named([one], ["f"]) == {"f"} and symbols_named([one], ["g"]) == {"_Z1gv"}
    with pytest.raises(RequestError, match="no such function"):
        symbols_named([one], ["h"])
    (line,), left = by_line(one, Wanted(functions=frozenset("f"), spans=(Span("a.c", 4, 7),)))
    assert (line.line, left) == (5, 1)
    assert not_vectorised(answer.remarks, range(5, 7), "a.c") == "y (line 6)"
    assert not_vectorised((*answer.remarks, said._replace(kind=DONE)), range(5, 7), "a.c") == ""
    assert not_vectorised(answer.remarks, range(6, 7), "a.c") == ""


def test_code_that_asking_changed_is_not_passed_off_as_the_same(
    tmp_path: Path, need: Callable[..., None]
) -> None:
    """The time of compiling is in this code: asked in another second, another code is made."""
    need("gcc-12")
    source = tmp_path / "clock.c"
    source.write_text(
        "int second(void) { return __TIME__[7] + 10 * __TIME__[6]; }\n"
        "int still(int a) { return a; }\n"
    )
    words = (source, "--build", "gcc-12 -O2")
    assert hot_anvil("compile", *words).returncode == 0
    time.sleep(1.1)
    (build,) = document("remarks", *words)["builds"]
    assert build["same_code"] is False
    told = hot_anvil("remarks", *words).stdout
    assert "made other code of second" in " ".join(told.split()) and "still" not in told
