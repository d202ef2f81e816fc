"""Where constructs go between source and assembly, as the compilers' own dumps show it."""

import functools
import json
import shutil
import signal
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import COMMAND, ROOT, document, hot_anvil, refused
from hot_anvil.core.stages import gimple, llvm, machine, rtl
from hot_anvil.core.stages.dumps import Reader
from hot_anvil.core.stages.following import KINDS, Sought, follow, read_sought
from hot_anvil.core.stages.records import Block, Body, Stage, Statement, counts_of, loops_of
from hot_anvil.core.stages.rtl_text import in_words
from hot_anvil.errors import RequestError

NEED = Callable[..., None]
BETWEEN = ROOT / "src" / "hot_anvil" / "data" / "between"

# Decided by hand: the first dump of the compiler's in which the construct is no more, or is there.
CASES = [
    ("gcc-12:fast", "total", "call millimetres", "gone", "einline"),
    ("gcc-12:easy", "total", "call millimetres", "gone", "ipa-inline"),
    ("gcc-12:fast", "total", "vector", "appears", "vect"),
    ("gcc-12:fast", "third", "copy", "gone", "lower"),
    ("gcc-12:fast", "week", "allocation", "gone", "cddce1"),
    ("gcc-12:fast", "week", "division", "gone", "expand"),
    ("gcc-12:fast", "four", "loop", "gone", "cunroll"),
    ("gcc-12:fast", "dry", "call memset", "appears", "ldist"),
    ("gcc-12:fast", "wasted", "variable spent", "gone", "cddce1"),
    ("gcc-12:easy", "raised", "allocation", "gone", "dce3"),
    ("gcc-12:fast", "raised", "call Mark", "gone", "einline"),
    ("clang-16:fast", "total", "call millimetres", "gone", "Inliner"),
    ("clang-16:fast", "total", "vector", "appears", "LoopVectorize"),
    ("clang-16:fast", "four", "vector", "appears", "SLPVectorizer"),
    ("clang-16:fast", "third", "copy", "gone", "InstCombine"),
    ("clang-16:fast", "week", "allocation", "gone", "InstCombine"),
    ("clang-16:fast", "week", "division", "gone", "x86-isel"),
    ("clang-16:fast", "four", "loop", "gone", "LoopFullUnroll"),
    ("clang-16:fast", "dry", "loop", "gone", "LoopDeletion"),
    ("clang-16:fast", "dry", "call memset", "appears", "LoopIdiomRecognize"),
    ("clang-16:fast", "raised", "call Mark::Mark", "gone", "Inliner"),
    ("clang-16:easy", "total", "vector", "never there", ""),
    ("gcc-12:easy", "four", "loop", "stays", ""),
    ("rustc-1.95:fast", "first", "call panic_bounds_check", "gone", "IPSCCP"),
    ("rustc-1.95:fast", "first", "loop", "stays", ""),
    ("rustc-1.95:fast", "weeks", "division", "gone", "x86-isel"),
]


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("between") / "bench"
    shutil.copytree(BETWEEN, folder)
    return folder


def followed(bench: Path, build: str, entry: str, what: str) -> dict[str, Any]:
    (one,) = document("stages", bench, build, "--entry", entry, "--follow", what)["builds"]
    return dict(one)


@pytest.mark.parametrize("case", CASES, ids=lambda case: " ".join(case[:3]))
def test_the_pass_that_did_it_is_the_one_that_the_dumps_show(
    case: tuple[str, ...], bench: Path, need: NEED
) -> None:
    build, entry, what, word, name = case
    if build.startswith("rustc"):
        need("rustc")
        known = document("toolchains")["toolchains"]
        build = next(c["name"] for c in known if c["family"] == "rustc") + ":fast"
    else:
        need(build.partition(":")[0])
    found = followed(bench, build, entry, what)
    assert found["word"] == word
    assert found["same_code"] is True
    passes = found["step"]["passes"] if found["step"] else [""]
    assert [one.partition(".")[0] for one in passes] == [name]


CALLER = """int gauge(int);
int sum(int *p, int n) { int s = 0; for (int i = 0; i < n; i++) s += gauge(p[i]); return s; }
int tail(int n) { return gauge(n + 1); }
int week(int days) { return days / 7; }
"""
BARE = [  # for processors that cannot divide: a function of the compiler's own does
    "clang-16@avr -Os", "clang-16@msp430 -Os", "clang-16@thumb -Os -mcpu=cortex-m0",
    "arm-none-eabi-gcc -Os -mthumb -mcpu=cortex-m0", "avr-gcc -Os -mmcu=atmega328p",
]  # fmt: skip


@pytest.mark.parametrize(
    "build",
    ["gcc-12 -O2", "gcc-12 -O2 -fno-plt -fPIC", "clang-16 -O2 -fno-plt -fPIC", "clang-16@arm -O2",
     "arm-none-eabi-gcc -O2 -mlong-calls -mcpu=cortex-m3 -mthumb", "riscv64-linux-gnu-gcc -O2",
     "clang-16@aarch64 -O2", "clang-16@riscv64 -O2", *BARE],
)  # fmt: skip
def test_what_is_still_done_is_never_gone(build: str, tmp_path: Path, need: NEED) -> None:
    """Whatever the target calls it: by name, from a table, through a register, by a jump."""
    need(build.split()[0].partition("@")[0])
    source = tmp_path / "caller.c"
    source.write_text(CALLER)
    words = (source, build, "--build", build, "--entry")
    for entry in ("sum", "tail"):
        (one,) = document("stages", *words, entry, "--follow", "call gauge")["builds"]
        assert one["word"] == "stays", (build, entry, one["step"])
    if build in BARE:
        (one,) = document("stages", *words, "week", "--follow", "division")["builds"]
        assert one["word"] == "stays", (build, one["step"])
        (week,) = document("facts", source, "--build", build, "--entry", "week")["functions"]
        assert week["facts"]["divisions"]["value"] == 1


def test_a_function_is_shown_counted_and_compared(bench: Path, need: NEED) -> None:
    need("gcc-12", "clang-16")
    (one,) = document("stages", bench, "gcc-12:fast", "--entry", "week")["functions"]
    by_name = {stage["stage"]: stage for stage in one["stages"]}
    assert (by_name["gimple"]["calls"], by_name["gimple"]["allocations"]) == (2, 1)
    assert (by_name["gimple"]["loads"], by_name["gimple"]["stores"]) == (1, 1)
    assert by_name["gimple"]["divisions"] == 1 and by_name["cddce1"]["calls"] == 0
    assert by_name["fre1"]["loads"] == 0  # what was just stored is not read again
    text = hot_anvil("stages", bench, "gcc-12:fast", "--entry", "week", COLUMNS="100").stdout
    assert "changed it" in text and all(len(line) <= 100 for line in text.split("\n"))
    shown = hot_anvil("stages", bench, "gcc-12:fast", "--entry", "week", "--show", "ssa").stdout
    assert "int *held = malloc(sizeof *held);" in shown and "malloc (4);" in shown
    only = hot_anvil("stages", bench, "gcc-12:fast", "--entry", "week", "--show", "ssa",
                     "--find", "malloc", "--lines", "24").stdout  # fmt: skip
    assert "malloc" in only and "/ 7" not in only
    step = document("stages", bench, "gcc-12:fast", "--entry", "week", "--pass", "cddce1")
    (pair,) = step["functions"]
    assert pair["left"].endswith(" dse1") and pair["right"] == "cddce1"
    states = {line["line"]: line["state"] for line in pair["lines"]}
    assert set(states.values()) >= {"gone"}
    since = document("stages", bench, "gcc-12:fast", "--entry", "week", "--show", "cddce1",
                     "--since", "ssa")["functions"][0]  # fmt: skip
    assert len([p for line in since["lines"] for p in line["pairs"]]) >= len(
        [p for line in pair["lines"] for p in line["pairs"]]
    )
    both = document("stages", bench, "clang-16:easy", "clang-16:fast", "--entry", "week",
                    "--show", "start")["functions"][0]  # fmt: skip
    assert {line["state"] for line in both["lines"]} == {"same"}


def test_whole_forms_and_what_is_offered(bench: Path, need: NEED) -> None:
    need("gcc-12", "clang-16")
    words = (bench, "--snippet", "between")
    offered = {b["build"]: b["forms"] for b in document("stages", *words)["builds"]}
    assert "vect" in offered["gcc-12:fast"]["GIMPLE"]
    assert "vect" not in offered["gcc-12:easy"]["GIMPLE"]
    assert "sched2" in offered["gcc-12:fast"]["RTL"]
    assert offered["clang-16:fast"] == {"whole source": ["preprocessed", "syntax", "start", "end"]}
    for build, stage in (("gcc-12:fast", "optimized"), ("clang-16:fast", "end")):
        whole = document("stages", *words, build, "--show", stage)
        names = {one["function"] for one in whole["functions"]}
        assert {"total", "third", "week", "four", "dry", "wasted"} <= names
        text = hot_anvil("stages", *words, build, "--show", stage, "--find", r"\bret").stdout
        assert text.count("ret") >= 6 and "malloc" not in text
    made = hot_anvil("stages", *words, "clang-16:fast", "--show", "preprocessed", "--find", "week")
    assert "int week(int days) {" in made.stdout
    again = hot_anvil("stages", *words, "clang-16:fast", "--show", "syntax", "--find", "'malloc'")
    assert "DeclRefExpr" in again.stdout


def test_what_cannot_be_asked_is_said(bench: Path, tmp_path: Path, need: NEED) -> None:
    need("gcc-12")
    fast = (bench, "gcc-12:fast")
    assert "What can be: call" in refused(
        "stages", *fast, "--entry", "week", "--follow", "happiness"
    )
    assert "--entry" in refused("stages", *fast, "--follow", "loop")
    assert "such function" in refused("stages", *fast, "--entry", "weak")
    assert "Did you mean 'cddce" in refused("stages", *fast, "--entry", "week", "--show", "cddce9")
    assert "left week as it was" in refused("stages", *fast, "--entry", "week", "--pass", "dse5")
    assert "nothing before" in refused("stages", *fast, "--entry", "week", "--pass", "gimple")
    assert "no such pass" in refused("stages", *fast, "--snippet", "between", "--show", "nothing")
    assert "regular expression" in refused(
        "stages", *fast, "--entry", "week", "--show", "ssa", "--find", "("
    )
    source = tmp_path / "late.c"
    source.write_text("int one(void) { return 1; }\n")
    build = "gcc-12 -O2 -flto"
    assert "while linking" in refused("stages", source, build, "--build", build, "--show", "ssa")


def test_ctrl_c_leaves_nothing_behind_and_a_reader_may_go(tmp_path: Path, need: NEED) -> None:
    need("gcc-12")
    source = tmp_path / "long.c"
    lines = [f"int f{k}(int a) {{ int s = 0; while (a --> {k}) s += a / 7; return s; }}"
             for k in range(4000)]  # fmt: skip
    source.write_text("\n".join(lines) + "\n")
    build = "gcc-12 -O2"
    words: list[str | Path] = [
        COMMAND,
        "stages",
        source,
        build,
        "--build",
        build,
        "--show",
        "optimized",
    ]
    assert hot_anvil("compile", source, "--build", build).returncode == 0
    running = subprocess.Popen(
        words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        preexec_fn=functools.partial(signal.signal, signal.SIGINT, signal.SIG_DFL),
    )  # fmt: skip
    time.sleep(1.0)
    running.send_signal(signal.SIGINT)
    _, told = running.communicate(timeout=60)
    assert running.returncode == 130 and "interrupted" in told
    left = subprocess.run(["pgrep", "-f", str(source)], capture_output=True, text=True, check=False)
    assert not left.stdout
    with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as shown:
        assert shown.stdout is not None
        assert "f0" in shown.stdout.readline()
        shown.stdout.close()  # as "| head" does
        assert shown.wait(timeout=60) == 0
    found = hot_anvil(*words[1:], "--format", "json")
    functions = json.loads(found.stdout)["functions"]
    assert len(functions) == 4000 and functions[-1]["function"] == "f3999"


def test_loops_are_those_of_the_graph() -> None:
    def body(*edges: tuple[str, tuple[str, ...]]) -> tuple[Block, ...]:
        return tuple(Block(label, k, goes) for k, (label, goes) in enumerate(edges))

    nest = body(("a", ("b",)), ("b", ("c", "e")), ("c", ("c", "d")), ("d", ("b",)), ("e", ()))
    assert loops_of(nest) == 2
    assert loops_of(body(("a", ("b", "c")), ("b", ("d",)), ("c", ("d",)), ("d", ()))) == 0
    assert loops_of(body(("a", ("a",)))) == 1


GIMPLE = """
;; Function f (f, funcdef_no=0, decl_uid=1, cgraph_uid=1, symbol_order=0)

Removing basic block 9
int f (struct gauge * g, int n)
{
  vector(4) int vect_a.3;
  int i;
  int _1;

  <bb 2> [local count: 100]:
  [a.c:3:7] if (n_2(D) > 0)
    goto <bb 3>; [89.00%]
  else
    goto <bb 4>; [11.00%]

  <bb 3> [local count: 900]:
  # i_3 = PHI <i_4(3), 0(2)>
  [a.c:4:9] _1 = [a.c:4:9] g_5(D)->level;
  [a.c:5:9] [a.c:5:9] g_5(D)->level = _1 %[fl] 7;
  vect_a.3_6 = MEM <vector(4) int> [(int *)_1];
  total = _1;
  i_4 = i_3 + 1;
  switch (i_4) <default: <L3> [INV], case 1: <bb 3> [INV]>

  <bb 4> [local count: 100]:
  [a.c:7:3] free (g_5(D));
  fn_7 (n_2(D));
  # DEBUG i => 3
  return;

}
"""


def test_gimple_is_read_as_it_stands() -> None:
    (one,) = gimple.read_functions(GIMPLE.split("\n"))
    assert one.function == "f" and counts_of(one) == (10, 3, 1, 2, 0, 2, 2, 1, 1)
    by_text = {s.text: s for s in one.statements}
    assert by_text["if (n_2(D) > 0) goto <bb 3>; else goto <bb 4>;"].line == 3
    assert by_text["g_5(D)->level = _1 %[fl] 7;"].traits == ("division", "store")
    assert by_text["fn_7 (n_2(D));"].traits == ("call",)
    assert by_text["free (g_5(D));"].traits == ("call", "call free")
    assert [b.goes_to for b in one.blocks] == [("bb 3", "bb 4"), ("L3", "bb 3"), ()]


def test_rtl_is_read_once_and_said_as_arithmetic() -> None:
    item = """(insn 6 5 7 2 (parallel [
            (set (reg:SI 88 [ x ])
                (plus:SI (mem:SI (reg/f:DI 7 sp) [1 x+0 S4 A32])
                    (const_int -1 [0xff])))
            (clobber (reg:CC 17 flags))
        ]) "a c.c":7:30 230 {*addsi_1}
     (nil))"""
    dump = f""";; Function f (f, funcdef_no=0, decl_uid=1)
(insn 1 2 3 (set (reg:SI 1) (reg:SI 2)))
;; basic block 2, loop depth 0
;;  pred:       ENTRY
{item}
;;  succ:       2 [50.0%]
;;              3 [50.0%]
;; basic block 3, loop depth 0
(call_insn 9 8 10 3 (call (mem:QI (symbol_ref:DI ("free") [flags 0x41]) [0 S1])
        (const_int 0 [0])) "a c.c":8:1 1 (nil))
;; basic block 2, loop depth 0
{item}
;;  succ:       EXIT
"""
    (one,) = rtl.read_functions(dump.split("\n"))
    assert [s.text for s in one.statements] == ["r88:SI = [sp] + -1"]  # the second printing counts
    assert one.statements[0][:2] == ("a c.c", 7) and one.statements[0].traits == ("load",)
    (whole,) = rtl.read_functions(dump.rpartition(";; basic block 2")[0].split("\n"))
    assert loops_of(whole.blocks) == 1 and whole.statements[1].traits == ("call", "call free")
    assert in_words("(set (pc) (if_then_else (le (reg:CC 17 flags) (const_int 0)) (label_ref 9) "
                    "(pc)))") == "pc = (flags <= 0) ? L9 : pc"  # fmt: skip


IR = """
define dso_local i32 @f(ptr %a) #0 !dbg !9 {
entry:
  %0 = load <4 x i32>, ptr %a, align 4, !dbg !12, !tbaa !16
  call void @llvm.lifetime.start.p0(i64 4, ptr %a) #5, !dbg !18
  call void @llvm.memcpy.p0.p0.i64(ptr %a, ptr %a, i64 4, i1 false)
  %r = invoke i32 @g(i32 7)
          to label %next unwind label %pad, !dbg !19

next:                                             ; preds = %entry
  %d = sdiv i32 %r, 7
  ret i32 %d

pad:
  %p = landingpad { ptr, i32 }
          cleanup
  ret i32 0
}
!9 = distinct !DISubprogram(name: "f", scope: !10, file: !10, line: 1)
!10 = !DIFile(filename: "a.c", directory: "/quay")
!12 = !DILocation(line: 3, column: 4, scope: !9)
!19 = !DILocation(line: 5, column: 4, scope: !20)
!20 = distinct !DILexicalBlock(scope: !9, file: !10, line: 4)
"""


def test_llvm_ir_finds_its_lines_at_the_end() -> None:
    (one,) = llvm.read_functions(IR.split("\n"))
    assert [(s.file, s.line) for s in one.statements[:4:3]] == [("a.c", 3), ("a.c", 5)]
    assert one.statements[0].text == "%0 = load <4 x i32>, ptr %a, align 4"
    assert counts_of(one) == (7, 3, 0, 2, 0, 1, 0, 1, 1)
    assert one.blocks[0].goes_to == ("next", "pad")
    assert one.statements[3].traits == ("call", "call g")
    made = machine.read_function("f", [
        "bb.0.entry:", "  successors: %bb.1(0x50), %bb.0(0x30)",
        "  %1:gr32 = IDIV32r %0:gr32, debug-location !12; a.c:3:4",
        "  CALL64pcrel32 @free, <regmask>", "  $eax = MOV32rm $rsp :: (load (s32) from %x)",
    ])  # fmt: skip
    assert [s.traits for s in made.statements] == [
        ("division",), ("call", "call free"), ("load",)
    ]  # fmt: skip
    assert made.statements[0].line == 3 and counts_of(made).vectors is None


def test_a_pass_that_takes_its_loop_away_is_named_though_it_writes_nothing() -> None:
    def state(text: str) -> str:
        return f"define i32 @f() {{\nentry:\n  {text}\n}}\n"

    stream = (
        f"*** IR Dump At Start ***\n{state('br label %entry')}"
        "*** IR Dump After EarlyCSEPass on f omitted because no change ***\n"
        "*** IR Dump After InlinerPass on (g) omitted because no change ***\n"
        "*** IR Pass LoopDeletionPass invalidated ***\n"
        "*** IR Pass PassManager<Loop> invalidated ***\n"
        f"*** IR Dump Before GVNPass on f ***\n{state('ret i32 2')}"
        f"*** IR Dump After GVNPass on f ***\n{state('ret i32 1')}"
        "*** IR Dump After InlinerPass on (f) omitted because no change ***\n"
    )
    reader = Reader("f")
    reader.take(stream.splitlines(keepends=True))
    assert [stage.name for stage in reader.stages] == ["start", "LoopDeletion", "GVN"]
    assert reader.stages[1].passed == ("EarlyCSE",)


def test_what_is_sought_is_read_or_refused() -> None:
    assert read_sought("calls") == ("call", "") and read_sought("loop").words == "loop"
    assert read_sought(" call  week ") == ("call", "week") and set(KINDS) >= {"copy", "vector"}
    for text in ("variable", "loop 3", "cal"):
        with pytest.raises(RequestError):
            read_sought(text)
    forms = ("GIMPLE", "RTL", "machine IR")
    stages = [
        Stage(form, Body("f", form, (Statement("a.c", 3, "low_2 = 1;"),), ())) for form in forms
    ]
    found = follow(stages, Sought("variable", "low"), {})
    assert found.counts == (1, None, None) and found.word == "stays"  # names end, not the variable
    assert follow(stages, Sought("vector"), {}).counts == (0, 0, None)


def test_a_limit_of_memory_holds_when_a_compiler_is_asked(tmp_path: Path, need: NEED) -> None:
    need("clang-16")
    file = tmp_path / "tide.c"
    file.write_text("int ebb(int x) { return x / 3; }\nint flow(int x) { return x * 3; }\n")
    build = ("--build", "clang-16 -O2")
    assert document("stages", file, *build, "--entry", "ebb")["functions"]
    said = refused("stages", file, *build, "--entry", "flow", "--job-memory", "40")
    assert "--job-memory" in said
    assert document("stages", file, *build, "--entry", "flow")["functions"]
