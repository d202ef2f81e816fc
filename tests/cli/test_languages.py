"""Languages and syntaxes beside C in AT&T: PTX, Intel, Fortran, Rust, assembly, libraries."""

import re
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import DEMO, NEED_ALL, document, hot_anvil, refused
from hot_anvil.core.arch.ptx.reader import read_ptx
from hot_anvil.core.arch.x86.intel import intel_text
from hot_anvil.core.asm.filters import find, hide, only_lines
from hot_anvil.core.asm.gnu import read_assembly
from hot_anvil.core.asm.listing import list_functions
from hot_anvil.core.asm.phases import EPILOGUE, PROLOGUE, phases
from hot_anvil.core.code.records import Code, Instruction

SOURCES = Path(__file__).parents[1] / "sources"
PTX = """
.visible .entry ebb(
\t.param .u64 ebb_param_0
)
{
\t.reg .pred %p<2>;
$L__func_begin0:
\t.loc\t1 4 0
\tld.param.u64 \t%rd1, [ebb_param_0];
$L__BB0_1:
\t.loc\t1 3 5, function_name $L__info_string0, inlined_at 1 6 9
\tsetp.lt.s32 \t%p1, %r1, 5;
\t@%p1 bra \t$L__BB0_1;
\t{ // callseq 0, 0
\t.param .b32 param0;
\tst.param.b32 \t[param0+0], %r1;
\tcall.uni (retval0),
\tsurge,
\t(
\tparam0
\t);
\t} // callseq 0
\tret;
}
\t.file\t1 "/quay/tide.cu"
\t.section\t.debug_str
\t{
$L__info_string0:
.b8 108,105,109,105,116,0
\t}
"""


def test_ptx_is_read_with_forward_files_split_calls_and_inlining() -> None:
    (function,) = read_ptx(PTX, "/quay").functions
    assert [i.text for i in function.instructions] == [
        "ld.param.u64 %rd1, [ebb_param_0]", "setp.lt.s32 %p1, %r1, 5", "@%p1 bra $L__BB0_1",
        "st.param.b32 [param0+0], %r1", "call.uni (retval0), surge, ( param0 )", "ret",
    ]  # fmt: skip
    assert [(i.file, i.line) for i in function.instructions[:2]] == [("tide.cu", 4), ("tide.cu", 3)]
    assert function.instructions[1].function == "limit"
    assert function.instructions[1].chain == (("ebb", "tide.cu", 6),)
    assert function.labels == {"$L__BB0_1": 1}


def test_cuda_is_read_from_every_compiler_that_takes_it(tmp_path: Path) -> None:
    source = tmp_path / "year.cu"
    source.write_text(
        "__device__ static inline int limit(int v, int top) { return v > top ? top : v; }\n"
        'extern "C" __global__ void year(const short *levels, short *kept, int n)\n{\n'
        "    int i = blockIdx.x * blockDim.x + threadIdx.x;\n"
        "    if (i < n)\n        kept[i] = (short)limit(levels[i], 200);\n}\n"
    )
    builds = ["clang-16@nvptx64 -O2"] + (["nvcc"] if shutil.which("nvcc") else [])
    for build in builds:
        if not shutil.which("clang-16") and not NEED_ALL:
            pytest.skip("clang-16 is missing")
        (function,) = document("listing", source, "--build", build)["functions"]
        lines = {line["line"] for line in function["lines"] if line["instructions"]}
        assert function["name"] == "year" and {1, 4, 5, 6} <= lines
        statements = re.findall(r"^\s+[@a-z][^;]*;", ptx_text(source, build), re.MULTILINE)
        assert function["count"] == len(statements)


def ptx_text(source: Path, build: str) -> str:
    """Return what the compiler writes, by calling it directly."""
    header = DEMO.parent / "cuda" / "kernel.h"
    argv = ["nvcc", "-ptx", "-lineinfo", "-o", "-", str(source)]
    if build.startswith("clang"):
        argv = [
            "clang++-16", "-O2", "-x", "cuda", "--cuda-device-only", "-nocudainc", "-nocudalib",
            "-include", str(header), "-S", "-o", "-", str(source),
        ]  # fmt: skip
    said = subprocess.run(argv, capture_output=True, text=True, check=True, cwd=source.parent)
    return re.sub(r"(?m)^\s*(\.|//|\$|[{}]).*$", "", said.stdout)


def unique(code: Code) -> list[Instruction]:
    rows = [i for f in code.functions for i in f.instructions if not i.inline_asm]
    return list({(i.mnemonic, i.operands): i for i in rows}.values())


@pytest.mark.parametrize(
    ("compiler", "flags"),
    [
        ("gcc", "-O0"), ("gcc", "-O2 -mavx512f -mavx512vl -mavx512bw"), ("gcc", "-O3"),
        ("gcc", "-O2 -mfpmath=387 -mlong-double-80"), ("clang-16", "-O3 -mavx2 -mbmi2"),
    ],
)  # fmt: skip
def test_intel_syntax_assembles_to_the_same_bytes(
    compiler: str, flags: str, tmp_path: Path, need: Callable[..., None]
) -> None:
    need(compiler)
    total = 0
    for source in [*SOURCES.glob("*.c"), *DEMO.glob("*.c")]:
        run: list[str | Path] = [
            compiler,
            *flags.split(),
            "-fno-pie",
            "-w",
            "-S",
            "-o",
            tmp_path / "x.s",
            source,
        ]
        subprocess.run(run, check=True)
        rows = unique(read_assembly((tmp_path / "x.s").read_text(), "/", "x86"))
        texts = {
            "att": [f"{i.mnemonic} {', '.join(i.operands)}" for i in rows],
            "intel": [" ".join(intel_text(i)) for i in rows],
        }
        made = {}
        for syntax, lines in texts.items():
            head = ".intel_syntax noprefix\n" if syntax == "intel" else ""
            text = head + "\n".join(lines).replace(".L", "L_") + "\n"
            (tmp_path / f"{syntax}.s").write_text(text)
            objects = ["as", "-o", f"{syntax}.o", f"{syntax}.s"]
            subprocess.run(objects, cwd=tmp_path, check=True)
            dump = ["objdump", "-dr", "--no-show-raw-insn", f"{syntax}.o"]
            said = subprocess.run(dump, cwd=tmp_path, check=True, capture_output=True, text=True)
            made[syntax] = said.stdout.split("\n")[3:]
        assert made["att"] == made["intel"]
        total += len(rows)
    assert total > 300


def test_a_listing_is_written_in_the_syntax_asked_for(demo: Path, tmp_path: Path) -> None:
    words: list[str | Path] = ["listing", demo, "gcc:fast", "--entry", "clamp_branch"]
    assert "%eax" in hot_anvil(*words).stdout
    intel = hot_anvil(*words, "--syntax", "intel").stdout
    assert "word ptr [" in intel and "%" not in intel
    settings = tmp_path / "hot-anvil" / "settings.toml"
    settings.parent.mkdir()
    settings.write_text("[defaults]\nsyntax = 'intel'\n")
    home = str(tmp_path)
    assert hot_anvil(*words, XDG_CONFIG_HOME=home).stdout == intel
    assert "%eax" in hot_anvil(*words, "--syntax", "att", XDG_CONFIG_HOME=home).stdout
    where = hot_anvil("toolchains", "--where", XDG_CONFIG_HOME=home).stdout
    assert str(settings) in where and "syntax = intel" in where
    settings.write_text("[defaults]\nsyntaks = 'intel'\n")
    told = hot_anvil(*words, XDG_CONFIG_HOME=home)
    assert told.returncode == 2 and "'syntax'" in told.stderr and "settings.toml:2" in told.stderr


FRAME = "\tpushq %rbp\n\tmovq %rsp, %rbp\n\tsubq $16, %rsp\n\tcall ebb\n\tleave\n\tret\n"


def test_prologue_and_epilogue_are_told_from_the_body() -> None:
    (function,) = read_assembly(
        f"\t.text\nf:\n{FRAME}\tnop\n\tpopq %rbx\n\tret\n", "/", "x86"
    ).functions
    marks = phases(function.instructions, "x86")
    assert marks == (PROLOGUE,) * 3 + ("",) + (EPILOGUE,) * 2 + ("",) + (EPILOGUE,) * 2


def test_a_listing_is_narrowed_by_line_kind_and_pattern() -> None:
    text = f'\t.file 1 "ebb.c"\n\t.text\nf:\n\t.loc 1 3 1\n{FRAME}\t.loc 1 4 1\n\tidivl %ecx\n'
    functions = list_functions(read_assembly(text, "/", "x86"), {})

    def shown(some: object) -> list[str]:
        assert isinstance(some, tuple)
        lines = [line for function in some for line in function.lines]
        return [p.instruction.mnemonic for line in lines for p in line.instructions]

    assert shown(only_lines(functions, "4-9")) == ["idivl"]
    assert shown(hide(functions, ["frame"])) == ["call", "idivl"]
    assert shown(find(functions, "idiv|ebb", "x86")) == ["call", "idivl"]
    assert shown(find(functions, "div", "x86")) == []


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["--lines", "9-3"], "--lines 9-3"),
        (["--find", "("], "regular expression"),
        (["--hide", "padings"], "padding"),
        (["--into", "no_such_function"], "no library"),
    ],
)
def test_wrong_ways_to_narrow_are_told(words: list[str], told: str, demo: Path) -> None:
    assert told in refused("listing", demo, "gcc:fast", "--snippet", "clamp", *words)


def test_library_code_is_shown_from_where_it_comes() -> None:
    found = document("listing", DEMO / "clamp.c", "--build", "gcc -O2", "--into", "labs")
    (function,) = found["functions"]
    assert function["name"].startswith("labs") and 2 <= function["count"] < 20
    assert function["lines"][0]["instructions"][-1]["mnemonic"] == "ret"


def test_assembly_in_any_syntax_has_its_own_lines(tmp_path: Path) -> None:
    source = tmp_path / "hand.s"
    source.write_text(
        "\t.intel_syntax noprefix\n\t.text\n\t.globl sum\n\t.type sum, @function\nsum:\n"
        "\txor eax, eax\nagain:\n\tadd eax, [rdi]\n\tadd rdi, 4\n\tdec esi\n\tjnz again\n\tret\n"
        "\t.size sum, .-sum\n"
    )
    found = document("listing", source, "--build", "gcc")
    (function,) = found["functions"]
    lines = {line["line"]: len(line["instructions"]) for line in function["lines"]}
    assert [n for n, count in lines.items() if count] == [6, 8, 9, 10, 11, 12]
    assert function["proof"] == "proved"


def test_one_snippet_in_three_languages_is_compared(
    tmp_path: Path, need: Callable[..., None]
) -> None:
    need("gfortran", "rustc")
    bench = tmp_path / "tide"
    shutil.copytree(DEMO, bench)
    found = document("check", bench, "--snippet", "feet")
    verdicts = {v["candidate"]: v["verdict"] for v in found["verdicts"]}
    assert set(verdicts.values()) == {"correct"}
    entries = {name.partition("@")[0] for name in verdicts}
    assert entries == {"feet_c", "feet_fortran", "feet_rust"}
    # A rival is a candidate only where there is a compiler for its language.
    assert not any(name.startswith("feet_rust@gcc") for name in verdicts)
    for suffix, mistake in ((".f90", "end subrutine"), (".rs", "pub fn broken( {")):
        with (bench / f"feet{suffix}").open("a") as file:
            file.write(f"{mistake}\n")
    builds = document("compile", bench, "--snippet", "feet")["builds"]
    told = {(d["file"], d["line"] > 5) for b in builds for d in b["diagnostics"]}
    assert {("feet.f90", True), ("feet.rs", True)} <= told
    assert any(b["status"] == "compiled" for b in builds)
