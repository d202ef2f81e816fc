"""Instructions in words: what is known, and that what is said is what the machine does."""

import re
import subprocess
import tomllib
from collections import Counter
from pathlib import Path

import pytest

from conftest import CORPUS, NEED_ALL, document, hot_anvil, refused
from hot_anvil.api import open_source
from hot_anvil.core.arch import names
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
            text, reading = own.example(found, word)
            assert found.does and not re.search(r"\{\w+\}", found.does + reading), text
            assert not found.entry.example or reading, text
    assert own.find("frobnicate") is None


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
