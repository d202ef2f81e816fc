"""Reasons: decided cases under real compilers, remarks, and what instructions mean."""

import re
import tomllib
from pathlib import Path

import pytest
from reasons import KNOWN_FAULTS, judge

from conftest import CORPUS, NEED_ALL, ROOT, document, hot_anvil
from hot_anvil.api import open_source
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch import semantics_of
from hot_anvil.core.reasons import explain
from hot_anvil.core.reasons.remarks import kind_of
from hot_anvil.core.toolchain.remarks import read_remarks


@pytest.mark.parametrize(
    ("truth", "least"),
    [
        ("truth.toml", 180),
        ("truth_second.toml", 100),
        ("truth_third.toml", 70),
        ("truth_small.toml", 10),
    ],
)
def test_reasons_agree_with_hand_decided_truth(truth: str, least: int) -> None:
    cases = tomllib.loads((CORPUS / truth).read_text())["case"]
    said: list[str] = []
    tallies, skipped = judge(cases, CORPUS, said.append)
    assert not (NEED_ALL and skipped)
    assert sum(tally[0] for tally in tallies.values()) >= least
    assert [text for text in said if text not in KNOWN_FAULTS] == []


def test_every_reason_is_described() -> None:
    text = (ROOT / "docs" / "reasons.md").read_text()
    subjects = [
        m for m in vars(explain).values() if getattr(m, "RULES", None) and hasattr(m, "__file__")
    ]
    kinds = {
        value
        for side_of in subjects
        for name, value in vars(side_of).items()
        if name.isupper() and isinstance(value, str) and not name.startswith("_")
    } - {"same", "renamed", "reordered", "changed", "moved", "gone", "new", "certain", "likely"}
    assert len(kinds) > 40
    assert [kind for kind in sorted(kinds) if kind not in text] == []


def test_each_reason_has_evidence_that_stands_in_the_code(tmp_path: Path) -> None:
    builds = ["--build", "gcc -O0", "--build", "gcc -O2"]
    found = document("diff", CORPUS / "levels.c", *builds)
    assert len(found["reasons"]) > 30
    for reason in found["reasons"]:
        assert reason["text"] and not reason["text"].endswith(".")
        assert reason["confidence"] in ("certain", "likely", "remark only")
        assert any(reason["evidence"].values()) or reason["confidence"] == "remark only"
        assert reason["lines"]
    listed = document("listing", CORPUS / "levels.c", "--build", "gcc -O2", "--entry", "four")
    texts = {
        i["index"]: i["text"]
        for f in listed["functions"]
        for line in f["lines"]
        for i in line["instructions"]
    }
    (unrolled,) = [
        r for r in found["reasons"] if (r["function"], r["kind"]) == ("four", "loop unrolled")
    ]
    assert all(texts[e["index"]] == e["text"] for e in unrolled["evidence"]["right"])


def test_swapping_the_sides_turns_reasons_round() -> None:
    anvil = open_source(CORPUS / "calls.c", ["gcc -O1", "gcc -O2"])
    (forth,), (back,) = anvil.diff("gcc -O1", "gcc -O2"), anvil.diff("gcc -O2", "gcc -O1")
    kinds = [{(r.function, r.kind) for r in d.explained.reasons} for d in (forth, back)]
    assert kinds[0] == kinds[1] and len(kinds[0]) > 8
    texts = [
        next(r.text for r in d.explained.reasons if r.kind == "tail call") for d in (forth, back)
    ]
    assert "is a jump" in texts[0] and "no longer a jump" in texts[1]


def test_compilers_remarks_bear_reasons_out(tmp_path: Path) -> None:
    found = document(
        "diff", CORPUS / "levels.c", "--build", "gcc -O2", "--build", "gcc -O3", "--entry", "lift"
    )
    (reason,) = [r for r in found["reasons"] if r["kind"] == "loop vectorised"]
    assert reason["remarks"] == [
        "right: loop vectorized using 16 byte vectors",
        "left, on why not: not vectorized: unsupported data-type (line 15)",
    ]


@pytest.mark.parametrize(
    ("text", "style", "kind"),
    [
        ("f.c:4:23: optimized: loop vectorized using 16 byte vectors", "gcc", "loop vectorised"),
        ("f.c:9:5: optimized: loop with 4 iterations completely unrolled "
         "(header execution count 9)", "gcc", "loop unrolled"),
        ("f.c:19:13: optimized:  Inlining mix/1 into digest/2.", "gcc", "call inlined"),
        ("f.c:3:1: remark: vectorized loop (vectorization width: 4, interleaved count: 2) "
         "[-Rpass=loop-vectorize]", "clang", "loop vectorised"),
        ("f.c:3:1: remark: 'half' inlined into 'middle' with (cost=-5) [-Rpass=inline]",
         "clang", "call inlined"),
        ("f.c:3:1: optimized: something new", "gcc", ""),
    ],
)  # fmt: skip
def test_remarks_are_read(text: str, style: str, kind: str) -> None:
    (remark,) = read_remarks(f"noise\n{text}\n", style)
    assert (remark.file, kind_of(remark)) == ("f.c", kind)
    assert "execution count" not in remark.text


@pytest.mark.parametrize(
    ("isa", "text", "wanted"),
    [
        ("x86", "addl $4, 8(%rdi)", {"kind": b.ADD, "loads": True, "stores": True, "immediate": 4}),
        ("x86", "movl %eax, -4(%rbp)", {"kind": b.MOVE, "stores": True, "loads": False}),
        ("x86", "xorl %eax, %eax", {"kind": b.CONSTANT, "immediate": 0}),
        ("x86", "vfmadd231pd (%rax), %ymm1, %ymm0", {"kind": b.FMA, "lanes": 4, "bits": 64}),
        ("x86", "pmuludq %xmm1, %xmm0", {"kind": b.MUL, "lanes": 4, "bits": 32}),
        ("x86", "jnb .L3", {"kind": b.BRANCH, "condition": "uge", "target": ".L3"}),
        ("x86", "call *8(%rax)", {"kind": b.CALL, "indirect": True, "loads": True}),
        ("x86", "lock addl $1, count(%rip)", {"kind": b.ATOMIC}),
        ("aarch64", "fmla v0.4s, v1.4s, v2.4s", {"kind": b.FMA, "lanes": 4, "element": "f"}),
        ("aarch64", "b.hi .L3", {"kind": b.BRANCH, "condition": "ugt"}),
        ("aarch64", "umulh x0, x1, x2", {"kind": b.MULHIGH, "signed": "unsigned"}),
        ("riscv", "lw a5, 8(a0)", {"kind": b.MOVE, "loads": True, "bits": 32}),
        ("riscv", "bgtu a0, a1, .L3", {"kind": b.BRANCH, "condition": "ugt"}),
        ("avr", "ldi r24, lo8(1000)", {"kind": b.CONSTANT, "immediate": 232}),
        ("avr", "brlo .L3", {"kind": b.BRANCH, "condition": "ult"}),
        ("arm", "movls r0, #3", {"kind": b.SELECT, "condition": "ule"}),
        ("msp430", "add 0(r13), 0(r12)", {"kind": b.ADD, "loads": True, "stores": True}),
        ("ptx", "fma.rn.f32 %f1, %f2, %f3, %f4", {"kind": b.FMA, "element": "f"}),
    ],
)  # fmt: skip
def test_what_instructions_do(isa: str, text: str, wanted: dict[str, object]) -> None:
    mnemonic, _, rest = text.partition(" ")
    if mnemonic == "lock":
        more, _, rest = rest.partition(" ")
        mnemonic = f"lock {more}"
    operands = tuple(re.split(r", ?(?![^(\[]*[)\]])", rest))
    done = semantics_of(isa).effect(mnemonic, operands)
    assert {key: getattr(done, key) for key in wanted} == wanted


def test_lines_that_no_rule_explains_are_counted(tmp_path: Path) -> None:
    source = CORPUS / "values.c"
    builds = ["--build", "gcc -O1", "--build", "clang-16 -Os"]
    found = document("diff", source, *builds)
    (totals,) = found["totals"]
    asks = [line for line in found["lines"] if line["state"] in ("changed", "gone", "new")]
    assert totals["wanting_reason"] == len(asks) > 0
    assert totals["not_explained"] == sum(not line["reasons"] for line in asks)
    text = hot_anvil("diff", source, *builds).stdout
    assert text.count("        not explained") == totals["not_explained"]
