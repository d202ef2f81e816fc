"""What compilers say of their work: all of it, under their own words, with the causes."""

import gzip
import json
import re
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import yaml  # type: ignore[import-untyped]

import hot_anvil
from conftest import CORPUS, document, refused
from conftest import hot_anvil as command
from hot_anvil.core.remarks.records import ABOUT, about

NEED = Callable[..., None]
SOURCES = sorted(f for f in CORPUS.iterdir() if f.suffix in (".c", ".cpp") and f.name != "board.c")
KINDS = {"success": "done", "failure": "missed", "note": "analysis"}
TAGS = {"Passed": "done", "Missed": "missed"}
Said = dict[str, dict[str, int]]  # kind -> place and sentence -> how often


def _add(said: Said, kind: str, line: int, text: str) -> None:
    own = said.setdefault(kind, {})
    text = re.sub(r"\b0x[0-9a-f]+", "0x", text)  # addresses in the compiler, others in each run
    key = f"{line} {' '.join(text.split())}"
    own[key] = own.get(key, 0) + 1


def _gnu(compiler: list[str], source: Path, work: Path) -> Said:
    flags = ["-fsave-optimization-record", "-w", "-c", "-o", "x.o"]
    subprocess.run([*compiler, *flags, source.name], cwd=work, check=True)
    (file,) = work.glob("*.json.gz")
    said: Said = {}

    def walk(records: list[Any]) -> None:
        for one in records:
            if one["kind"] in KINDS:
                parts = [
                    p if isinstance(p, str) else next(p[k] for k in p if k != "location")
                    for p in one["message"]
                ]
                line = one.get("location", {}).get("line", 0)
                text = re.sub(r" \(header execution count \d+\)", "", "".join(parts)).strip()
                _add(said, KINDS[one["kind"]], line, text.split("\n")[0])
            walk(one.get("children", []))

    walk(json.loads(gzip.decompress(file.read_bytes()))[2])
    return said


def _llvm(compiler: list[str], source: Path, work: Path) -> Said:
    flags = ["-fsave-optimization-record", "-w", "-c", "-o", "x.o"]
    subprocess.run([*compiler, *flags, source.name], cwd=work, check=True)
    text = (work / "x.opt.yaml").read_text()
    said: Said = {}
    for tag, body in re.findall(r"^--- !(\w+)\n(.*?)^\.\.\.$", text, re.M | re.S):
        one = yaml.load(body, yaml.BaseLoader)
        words = "".join(next(v for k, v in arg.items() if k != "DebugLoc") for arg in one["Args"])
        line = int(one.get("DebugLoc", {}).get("Line", 0))
        _add(said, TAGS.get(tag, "analysis"), line, words)
    return said


@pytest.mark.parametrize("compiler", ["gcc-12 -O3", "gcc-11 -O2", "clang-16 -O3", "clang-14 -Os"])
def test_all_that_a_compiler_writes_is_told_in_its_own_words(
    compiler: str, need: NEED, tmp_path: Path
) -> None:
    name, level = compiler.split()
    need(name)
    for source in SOURCES:
        work = tmp_path / source.name
        work.mkdir()
        driver = name
        if source.suffix == ".cpp":
            driver = re.sub("^gcc|^clang", lambda m: {"gcc": "g++"}.get(m[0], "clang++"), name)
        kept = work / source.name
        kept.write_bytes(source.read_bytes())
        read = _gnu if "g" in name[:1] else _llvm
        wanted = read([driver, level], kept, work)
        (one,) = hot_anvil.open_source(kept, [f"{name} {level}"]).remarks()
        (answer,) = one.answered
        assert not answer.why and answer.code == "same"
        found: Said = {}
        for remark in answer.remarks:
            for _ in range(remark.times):
                _add(found, remark.kind, remark.line, remark.text)
        for kind in wanted:
            assert dict(found[kind].items() ^ wanted[kind].items()) == {}, source.name
        assert {k: sum(v.values()) for k, v in wanted.items()} == {
            k: n for k, n in answer.totals.items() if n
        }


LOOPS = """
void ext(int);
double sq(double);
struct node { struct node *next; int v; };
int first(const char *a, int n) {
  for (int i = 0; i < n; i++) if (a[i] == 3) return i;
  return -1;
}
void carried(int *a, int n) {
  for (int i = 1; i < n; i++)
    a[i] = a[i - 1] * 3 + a[i];
}
void calls(int *a, int n) {
  for (int i = 0; i < n; i++) ext(a[i]);
}
void other(double *a, int n) {
  for (int i = 0; i < n; i++) a[i] = sq(a[i]);
}
int chain(const struct node *p) {
  int s = 0;
  for (; p; p = p->next) s += p->v;
  return s;
}
void mixed(unsigned *a, unsigned x, int n) {
  for (int i = 0; i < n; i++) a[i] = x = x * 1103515245u + 12345u;
}
int seen(volatile int *p, int n) {
  int s = 0;
  for (int i = 0; i < n; i++) s += *p;
  return s;
}
unsigned crc(unsigned c, const unsigned char *a, int n, const unsigned *t) {
  for (int i = 0; i < n; i++) c = t[(c ^ a[i]) & 255] ^ (c >> 8);
  return c;
}
void jump(int *a, int n) {
  for (int i = 0; i < n; i++) switch (a[i] & 3) { case 0: a[i] = 1; break; case 1: ext(2); }
}
int until(const int *a, int stop) {
  int i = 0;
  while (a[i] != stop) i++;
  return i;
}
"""
FUNCTIONS = re.findall(r"^\w[\w ]* \*?(\w+)\([^;]*\) \{$", LOOPS, re.M)


@pytest.mark.parametrize(
    "compiler", ["gcc-12 -O3 -fopt-info-vec-missed", "clang-16 -O3 -Rpass-analysis=loop-vectorize"]
)
def test_why_ten_loops_are_not_vectorised_is_the_compilers_reason(
    compiler: str, need: NEED, tmp_path: Path
) -> None:
    """The same compiler tells the cause in its messages, which nothing here reads."""
    name, level, told = compiler.split()
    need(name)
    source = tmp_path / "loops.c"
    source.write_text(LOOPS)
    goal = str(tmp_path / "x.o")
    words = [name, level, told, "-c", "-o", goal, str(source)]
    said = subprocess.run(words, capture_output=True, text=True, check=True).stderr
    causes = set(re.findall(r":(\d+):\d+: (?:missed:|remark:) +(.*?)(?: \[-R.*)?$", said, re.M))
    assert len(FUNCTIONS) == 10
    for function in FUNCTIONS:
        found = document("remarks", source, "--build", f"{name} {level}", "--entry", function,
                         "--about", "vectorising", "--kind", "missed")  # fmt: skip
        why = [c for line in found["lines"] for r in line["remarks"] for c in r["why"]]
        assert why, function
        for cause in why:
            assert (str(cause["line"]), cause["text"]) in causes, (function, cause)
            assert "couldn't vectorize loop" not in cause["text"]


def test_rust_tells_where_and_why_too(need: NEED, tmp_path: Path) -> None:
    need("rustc")
    source = tmp_path / "find.rs"
    source.write_text(
        "#[no_mangle]\npub fn find(a: &[u8], c: u8) -> usize {\n"
        "  for i in 0..a.len() {\n    if a[i] == c { return i; }\n  }\n  a.len()\n}\n"
    )
    found = document("remarks", source, "--build", "rustc -Copt-level=3", "--entry", "find")
    (line,) = (one for one in found["lines"] if one["line"] == 3)
    assert line["file"] == "find.rs" and found["builds"][0]["same_code"] is True
    (row,) = line["remarks"]
    assert (row["about"], row["kind"]) == ("vectorising", "missed")
    assert "early exit" in row["why"][0]["text"]


def test_builds_that_say_the_same_stand_together_and_filters_hold(
    tmp_path: Path, need: NEED
) -> None:
    need("gcc-12", "clang-16")
    source = tmp_path / "loops.c"
    source.write_text(LOOPS)
    builds = ("--build", "gcc-12 -O3", "--build", "gcc-12 -O2", "--build", "clang-16 -O3")
    text = command("remarks", source, *builds, "--entry", "carried", COLUMNS="160").stdout
    assert "gcc-12 -O3, gcc-12 -O2: not vectorized, possible dependence" in text
    assert text.count("possible dependence") == 1  # not once more at the line of its cause
    only = document("remarks", source, *builds, "--lines", "14", "--about", "inlining")
    rows = [r for line in only["lines"] for r in line["remarks"]]
    assert rows and {r["about"] for r in rows} == {"inlining"}
    assert {line["line"] for line in only["lines"]} == {14}
    table = command("remarks", source, *builds, "--kind", "done", "--format", "csv").stdout
    assert all(",done," in row for row in table.strip().split("\n")[1:])
    whole = document("remarks", source, *builds, "--all")
    assert whole["left_out"] == 0
    counted = sum(sum(b["records"].values()) for b in whole["builds"])
    shown = sum(r["count"] * len(r["builds"]) for li in whole["lines"] for r in li["remarks"])
    assert shown <= counted
    assert "'nothing'" in refused("remarks", source, *builds, "--about", "nothing")
    assert "no such function" in refused("remarks", source, *builds, "--entry", "carry")


def test_what_cannot_be_asked_says_why(tmp_path: Path, need: NEED) -> None:
    need("gcc-12")
    source = tmp_path / "one.c"
    source.write_text("int one(void) { return 1; }\n")
    (late,) = document("remarks", source, "--build", "gcc-12 -O2 -flto")["builds"]
    assert "while linking" in late["why"] and late["records"] is None
    (refused_one,) = document("remarks", source, "--build", "gcc-12 -fno-such")["builds"]
    assert "-fno-such" in refused_one["why"]


def test_a_diff_and_facts_carry_the_reason_and_a_contradiction(tmp_path: Path, need: NEED) -> None:
    need("gcc-12", "clang-16")
    source = tmp_path / "v.c"
    source.write_text(
        "void chosen(int *a, int *b, int n) {\n  for (int i = 0; i < n; i++)\n"
        "    if (b[i] > 3) a[i] = b[i];\n}\n"
        "float sum(const float *a, int n) {\n  float s = 0;\n"
        "  for (int i = 0; i < n; i++) s += a[i];\n  return s;\n}\n"
    )
    builds = ("gcc-12 -O3", "clang-16 -O3 -ffast-math")
    given = [word for build in builds for word in ("--build", build)]
    found = document("diff", source, *builds, *given)
    reasons = {r["function"]: r for r in found["reasons"] if r["kind"] == "loop vectorised"}
    loop = reasons["chosen"]
    assert any("left, on why not: not vectorized: control flow" in w for w in loop["remarks"])
    assert loop["against"] is None
    assert reasons["sum"]["against"] == "both compilers say that they vectorised here"
    (scalar,) = (one for one in document("facts", source, *given)["not_vectorised"]
                 if one["function"] == "chosen")  # fmt: skip
    assert scalar["builds"] == ["gcc-12 -O3"] and "control flow in loop" in scalar["why"]


def test_every_topic_is_reached() -> None:
    steps = {"inline": "inlining", "slp2": "vectorising", "loop-unroll": "unrolling",
             "loop-idiom": "loops", "gvn": "loads", "tailcallelim": "calls",
             "prologepilog": "stack", "asm-printer": "code", "no-such-pass": "other"}  # fmt: skip
    assert {step: about(step, "") for step in steps} == steps
    assert about("regalloc", "2 spills in loop") == "spills"
    assert {*steps.values(), "spills"} == set(ABOUT)


def test_all_that_rust_passes_on_is_told(need: NEED, tmp_path: Path) -> None:
    need("rustc")
    source = tmp_path / "rust.rs"
    source.write_bytes((CORPUS / "rust.rs").read_bytes())
    flags = ["-Copt-level=3", "-Cdebuginfo=1", "-Cremark=all", "-Ccodegen-units=1"]
    words = ["rustc", *flags, "--crate-type=lib", "--crate-name=s_rust", "--emit=obj=x.o"]
    done = subprocess.run(
        [*words, source.name], cwd=tmp_path, capture_output=True, text=True, check=True
    )
    found = re.findall(r"^note: .*?:\d+:\d+ \S+ \((\w+)\): ", done.stderr, re.M)
    wanted = {
        kind: found.count(word)
        for kind, word in (("done", "success"), ("missed", "missed"), ("analysis", "analysis"))
    }
    (one,) = hot_anvil.open_source(source, ["rustc -Copt-level=3"]).remarks()
    assert dict(one.answered[0].totals) == wanted and sum(wanted.values()) > 20
