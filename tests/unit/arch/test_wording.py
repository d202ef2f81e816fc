"""Instructions in words: what is known, and that what is said is what the machine does."""

import re
import shutil
import subprocess
import tomllib
from collections import Counter
from pathlib import Path

import pytest

from conftest import CORPUS, NEED_ALL, document, hot_anvil, refused
from hot_anvil.api import open_source
from hot_anvil.core.arch import names
from hot_anvil.core.code.text import split_operands
from hot_anvil.core.results.words import Told, operand_words
from hot_anvil.system.toolchain.words import dictionary

KNOWN = tomllib.loads((CORPUS / "mnemonics.toml").read_text())
AT_LEAST = {
    "x86": 250,
    "aarch64": 120,
    "arm": 90,
    "riscv": 200,
    "avr": 110,
    "msp430": 50,
    "ptx": 80,
}
BUILDS = {
    "x86": ["gcc -O0", "gcc -O3 -march=skylake-avx512", "clang -O3 -march=haswell"],
    "aarch64": [
        "aarch64-linux-gnu-gcc -O0",
        "clang@aarch64 -O3",
        "clang@aarch64 -O3 -march=armv9-a",
    ],
    "arm": ["arm-none-eabi-gcc -mcpu=cortex-m4 -mthumb -O2", "arm-linux-gnueabihf-gcc -O3"],
    "riscv": ["riscv64-linux-gnu-gcc -O2", "clang@riscv64 -O2 -march=rv64gcv"],
    "avr": ["avr-gcc -mmcu=atmega328p -O0", "avr-gcc -mmcu=atmega328p -O2"],
    "msp430": ["clang@msp430 -O0", "clang@msp430 -O2"],
}


@pytest.mark.parametrize("isa", sorted(AT_LEAST))
def test_the_common_instructions_are_known(isa: str) -> None:
    words = set(KNOWN[isa].split())
    assert len(words) >= AT_LEAST[isa]
    own = dictionary(isa)
    assert [word for word in words if own.find(word) is None] == []
    for word in words:
        for found in own.forms(word):
            told = Told(word, own, found)
            assert found.does and not re.search(r"\{(?!k\d)\w+\}", found.does + told.reading), (
                told.text
            )
            assert not found.entry.example or told.reading, told.text
    assert own.find("frobnicate") is None


_CORTEX = "-march=armv8.2-a+crypto -mfpu=crypto-neon-fp-armv8".split()
_RISCV = "-march=rv64gcv_zba_zbb_zbs_zbc_zfh1p0 -menable-experimental-extensions".split()
# One of these assemblers takes each example.
ASSEMBLERS = {
    "x86": [["gcc"]],
    "aarch64": [["aarch64-linux-gnu-gcc", "-march=armv8.6-a+sve2+crypto+memtag"]],
    "arm": [
        ["arm-linux-gnueabihf-gcc", *_CORTEX, "-marm"],
        ["arm-linux-gnueabihf-gcc", *_CORTEX, "-mthumb"],
        ["arm-none-eabi-gcc", "-mcpu=cortex-m4", "-mthumb"],
    ],
    "riscv": [
        ["clang-16", "--target=riscv64", *_RISCV],
        ["riscv64-linux-gnu-gcc", "-march=rv64gc_zba_zbb_zbs_zbc"],
        ["clang-16", "--target=riscv32", "-march=rv32gc"],
    ],
    "avr": [["avr-gcc", "-mmcu=atxmega128a1u"], ["avr-gcc", "-mmcu=atmega2560"]],
    "msp430": [["clang-16", "--target=msp430"]],
}


@pytest.mark.parametrize("isa", sorted(ASSEMBLERS))
def test_examples_are_instructions(isa: str, tmp_path: Path) -> None:
    own = dictionary(isa)
    words = sorted(set(KNOWN[isa].split()))
    left = list(dict.fromkeys(Told(w, own, f).text for w in words for f in own.forms(w)))
    tools = [tool for tool in ASSEMBLERS[isa] if shutil.which(tool[0])]
    assert tools or not NEED_ALL
    if len(tools) < len(ASSEMBLERS[isa]):
        pytest.skip(f"not all assemblers of {isa} are here")
    for tool in tools:
        left = _refused(tool, isa, left, tmp_path)
    assert left == []


def _refused(tool: list[str], isa: str, texts: list[str], folder: Path) -> list[str]:
    """Return the texts that an assembler does not take."""
    source = folder / "examples.s"
    labels = "probe: .L3: .LBB0_2:"
    ends = [".syntax unified", "", *texts, labels] if isa == "arm" else ["", labels, *texts]
    source.write_text("\n".join([*ends, ""]))
    call = [*tool, "-c", "-o", str(folder / "examples.o"), str(source)]
    said = subprocess.run(call, capture_output=True, text=True)
    lines = {int(n) - 3 for n in re.findall(r"examples\.s:(\d+):", said.stderr)}
    assert said.returncode == 0 or lines, said.stderr
    return [text for k, text in enumerate(texts) if k in lines]


@pytest.mark.parametrize(
    ("isa", "text", "reading"),
    [
        ("arm", "ite eq", "equal? the next 2: if so, if not"),
        ("arm", "ldr r0, [r1], #4", "r0 = [r1], 32 bits, then r1 += 4"),
        ("arm", "str r0, [r1, #-4]!", "r1 -= 4, then [r1] = r0, 32 bits"),
        ("arm", "ldr r0, [r1, r2, lsl #2]", "r0 = [r1 + (r2 << 2)], 32 bits"),
        ("aarch64", "add x0, x1, w2, uxtw", "x0 = x1 + (w2 zero extended from 32 bits)"),
        ("aarch64", "ldr w0, [x1, w2, sxtw]", "w0 = [x1 + (w2 sign extended from 32 bits)]"),
        ("aarch64", "adrp x0, levels", "x0 = page of levels"),
        ("aarch64", "stp x29, x30, [sp, -16]!", "sp -= 16, then two values at [sp] = x29, x30"),
        ("riscv", "fge.s a0, fa0, fa1", "a0 = 1 if fa0 >= fa1, else 0"),
        ("riscv", "add.uw a0, a1, a2", "a0 = low 32 bits of a1 + a2"),
        ("avr", "sbrc r24, 3", "skip the next if bit 3 of r24 is 0"),
        ("x86", "divl %ecx", "eax = edx:eax / ecx, edx = the rest, unsigned"),
        ("x86", "mulb %cl", "ax = al * cl, unsigned"),
        ("x86", "vaddps (%rax){1to16}, %zmm0, %zmm1", "zmm1 = zmm0 + [rax] in each of 16 lanes"),
        ("x86", "movq %rax, %rbx", "rbx = rax"),
        ("x86", "cmpxchgl %ecx, (%rdx)", "if eax is [rdx]: [rdx] = ecx, else eax = [rdx]"),
    ],
)  # fmt: skip
def test_instructions_are_read_with_their_operands(isa: str, text: str, reading: str) -> None:
    mnemonic, _, rest = text.partition(" ")
    assert dictionary(isa).read(mnemonic, split_operands(rest)) == reading


@pytest.mark.parametrize(
    ("isa", "text", "said"),
    [
        ("x86", "btl %eax, %ecx", "%eax read, %ecx read"),
        ("x86", "vgatherdps %ymm0, (%rax,%ymm1,4), %ymm2",
         "%ymm0 read and written, (%rax,%ymm1,4) read, %ymm2 read and written"),
        ("x86", "addl $3, 4(%rdi)", "$3 given, 4(%rdi) read and written"),
        ("x86", "leaq 8(%rdi), %rax", "8(%rdi) only its address taken, %rax written"),
        ("arm", "ldm r0!, {r1, r2}", "r0! read and written, {r1, r2} written"),
        ("arm", "vldr s0, [r0]", "s0 written, [r0] read"),
        ("aarch64", "ldaddal w0, w1, [x2]", "w0 read, w1 written, [x2] read and written"),
        ("aarch64", "stlxr w0, w1, [x2]", "w0 written, w1 read, [x2] written"),
    ],
)  # fmt: skip
def test_operands_are_read_and_written_as_they_are(isa: str, text: str, said: str) -> None:
    mnemonic, _, rest = text.partition(" ")
    own, operands = dictionary(isa), split_operands(rest)
    found = own.find(mnemonic, len(operands))
    assert found
    assert operand_words(Told(mnemonic, own, found, operands)).endswith(f"Here: {said}")


def test_an_unknown_instruction_hides_no_other() -> None:
    answer = hot_anvil("explain", "ldr r0, [r1], #4", "frobnicate", "--target", "arm")
    assert answer.returncode == 2
    assert "then r1 += 4" in answer.stdout and "frobnicate: not in the ref" in answer.stdout
    assert "written with %" in refused("explain", "mov eax, ebx", "--target", "x86")


@pytest.mark.parametrize("isa", sorted(BUILDS))
def test_what_compilers_emit_is_known(isa: str) -> None:
    counts: Counter[str] = Counter()
    unknown: Counter[str] = Counter()
    for source in ("board.c", "values.c", "gate.c"):
        for build in BUILDS[isa]:
            answer = open_source(CORPUS / source, [build])
            try:
                (built,) = answer.compile()
                code = answer.code(built)
            except Exception:
                assert not NEED_ALL, (source, build)
                continue
            own = dictionary(code.isa)
            for item in (i for f in code.functions for i in f.instructions):
                counts[isa] += 1
                if not own.read(item.mnemonic, item.operands):
                    unknown[f"{item.mnemonic} {len(item.operands)}"] += 1
    assert not NEED_ALL or counts[isa] > 200
    assert unknown.total() <= counts.total() / 100, unknown


@pytest.mark.parametrize(
    "text",
    [
        "addl %ecx, %eax", "subl %ecx, %eax", "imull %ecx, %eax", "imull $10, %ecx, %eax",
        "xorl %ecx, %eax", "orl %ecx, %eax", "andl %ecx, %eax", "shll $3, %eax",
        "leal 5(%rcx,%rax,4), %eax", "negl %eax", "notl %eax", "incl %eax", "movl %ecx, %eax",
        "andnl %ecx, %eax, %eax", "shrl $3, %eax", "subl %eax, %eax", "sall %eax",
    ],
)  # fmt: skip
def test_a_reading_computes_what_the_processor_does(text: str, tmp_path: Path) -> None:
    a, c = 0x12345678, 0x0F0F7001
    source = tmp_path / "run.c"
    source.write_text(
        "#include <stdio.h>\nint main(void) { unsigned a = "
        f'{a}, c = {c}; __asm__ volatile("{text.replace("%", "%%")}" : "+a"(a) : "c"(c) : '
        '"cc"); printf("%u", a); }\n'
    )
    program = tmp_path / "run"
    subprocess.run(["gcc", source, "-o", program], check=True)
    ran = subprocess.run([program], capture_output=True, text=True, check=False)
    if ran.returncode < 0:
        pytest.skip("this processor has no such instruction")
    mnemonic, _, operands = text.partition(" ")
    reading = dictionary("x86").read(mnemonic, tuple(re.split(r", (?![^(]*\))", operands)))
    target, _, formula = reading.partition(" = ")
    assert target == "eax"
    values = {"eax": a, "ecx": c, "rax": a, "rcx": c}
    plain = formula.replace(", unsigned", "").replace("eax << 1", "(eax << 1)")
    assert eval(plain, {}, values) % 2**32 == int(ran.stdout)


def test_explain_says_what_where_and_for_whom() -> None:
    text = hot_anvil("explain", "cmovl", "adc").stdout
    assert "copies only if less, signed" in text and "reads the flags" in text
    for name in ("x86-64", "AVR", "AArch64", "ARM and Thumb"):
        assert f"adc  {name}" in text
    (lone,) = document("explain", "lwu", "--target", "riscv64-linux-gnu")["instructions"]
    assert lone["reading"] == "a0 = [a1 + 8], 32 bits, unsigned"
    assert len(document("explain", "imul")["instructions"]) == 3  # by how many operands
    assert "unknown here" in refused("explain", "frobnicate")
    assert "known: " in refused("explain", "add", "--target", "z80")
    assert refused("explain").startswith("hot-anvil: explain: name an instruction")
    assert list(names()) == sorted(AT_LEAST)


def test_used_instructions_and_words_beside_the_code() -> None:
    build = ["--build", "gcc -O2"]
    used = document("explain", "--used", "gcc -O2", CORPUS / "levels.c", *build)["instructions"]
    listed = document("listing", CORPUS / "levels.c", *build, "--words")["functions"]
    items = [i for f in listed for line in f["lines"] for i in line["instructions"]]
    assert sum(row["count"] for row in used) == len(items)
    assert all(row["does"] for row in used) and all(item["words"] for item in items)
    plain = document("listing", CORPUS / "levels.c", *build)["functions"]
    assert not any("words" in i for f in plain for line in f["lines"] for i in line["instructions"])
    intel = hot_anvil("listing", CORPUS / "levels.c", *build, "--words", "--syntax", "intel").stdout
    assert re.search(r"(?i)add +eax, dword ptr \[rdi\] +eax = eax \+ \[rdi\]", intel)
    shown = hot_anvil(
        "diff",
        CORPUS / "levels.c",
        *build,
        "--build",
        "gcc -O1",
        "--words",
        "--entry",
        "sum_levels",
    ).stdout
    assert re.search(r"edx = edx \+ \[rax\]|eax = eax \+ \[rdi\]", shown)
