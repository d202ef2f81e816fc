"""Values behind labels: what stands there, in the form that the instruction takes it."""

import struct
from pathlib import Path

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from conftest import document, hot_anvil, lacking
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch import semantics_of
from hot_anvil.core.asm.constants import constants_named, value_behind

LOAD = semantics_of("x86").effect("movdqa", (".LC0(%rip)", "%xmm0"))
ADDRESS = semantics_of("x86").effect("leaq", (".LC0(%rip)", "%rax"))
DOUBLE = semantics_of("x86").effect("mulsd", (".LC0(%rip)", "%xmm0"))
SINGLE = semantics_of("x86").effect("mulss", (".LC0(%rip)", "%xmm0"))
MASK = semantics_of("x86").effect("andpd", (".LC0(%rip)", "%xmm0"))


@given(st.floats(allow_nan=False))
def test_a_double_in_two_halves_is_the_number(value: float) -> None:
    low, high = struct.unpack("<ii", struct.pack("<d", value))
    told = value_behind(f".long {low}; .long {high}", DOUBLE)
    assert struct.pack("<d", float(told)) == struct.pack("<d", value)


@given(st.floats(width=32, allow_nan=False))
def test_a_single_is_told_by_digits_that_mean_it_alone(value: float) -> None:
    (word,) = struct.unpack("<i", struct.pack("<f", value))
    told = value_behind(f".long {word}", SINGLE)
    assert struct.pack("<f", float(told)) == struct.pack("<f", value)
    assert len(told) <= 16


@given(st.lists(st.integers(-60_000, 60_000), min_size=2, max_size=8))
def test_a_table_of_integers_is_told_in_order(values: list[int]) -> None:
    assume(len(set(values)) > 1)
    told = value_behind("; ".join(f".long {value}" for value in values), LOAD)
    assert told == ", ".join(map(str, values))


@pytest.mark.parametrize(("directives", "done", "told"), [
    (".long 7; .long 7; .long 7; .long 7", LOAD, "4 x 7"),
    (".long -1; .long 2147483647; .long 0; .long 0", MASK, "0x7fffffffffffffff, 0x0"),
    ('.string "South\\tmole\\n"', ADDRESS, '"South\\tmole\\n"'),
    ('.ascii "Nor"; .asciz "th"', ADDRESS, '"North"'),
    ('.string "' + "x" * 60 + '"', ADDRESS, '"' + "x" * 44 + '.."'),
    (".long 1; .long 2", ADDRESS, ""),  # an address alone: what is taken there is not known
    ("; ".join([".long 3"] * 4 + [".long 1"]), ADDRESS, "3, 3, 3, 3, 1"),
    ("; ".join(f".byte {k}" for k in range(20)), LOAD, "0, 1, 2, 3, 4, 5, 6, 7, .."),
    (".long 1; .long 2... (deadbeef)", LOAD, "1, 2, .."),
    (".long 305419896", LOAD, "0x12345678"),
    (".quad .L4-.L3", LOAD, ""),
    (".octa 5", LOAD, ""),
])  # fmt: skip
def test_constants_in_words(directives: str, done: b.Effect, told: str) -> None:
    assert value_behind(directives, done) == told


def test_only_what_nothing_writes_is_a_constant() -> None:
    held = dict.fromkeys((".LC0", ".LANCHOR0", ".L_MergedGlobals", ".L4"), ".long 1")
    assert constants_named((".LC0(%rip)", "%xmm0"), held)
    for name in (".LANCHOR0", ".L_MergedGlobals", ".L4", ".LC9"):
        assert not constants_named((f"[x0, #:lo12:{name}]",), held)


SOURCE = """\
double scale(double feet) { return feet * 0.3048 + 1.5; }
float half(float x) { return x * 0.5f; }
const char *name(int k) { return k ? "Northquay" : "South\\tmole\\n"; }
int points(int k)
{
    switch (k) {
    case 0: return 7;
    case 1: return 99;
    case 2: return -3;
    case 3: return 12;
    case 4: return 5;
    default: return 0;
    }
}
static int counts[4] = {1, 2, 3, 4};
int bump(int k) { return counts[k & 3]++; }
"""


@pytest.mark.parametrize(("build", "wanted"), [
    ("gcc -O2", {"0.3048", "1.5", "0.5", '"Northquay"', '"South\\tmole\\n"', "7, 99, -3, 12, 5"}),
    ("clang -O2", {"0.3048", "1.5", "0.5", '"Northquay"', '"South\\tmole\\n"',
                   "7, 99, -3, 12, 5"}),
    ("aarch64-linux-gnu-gcc -O2", {"0.3048", '"Northquay"', '"South\\tmole\\n"'}),
    ("riscv64-linux-gnu-gcc -O2", {"0.3048", "1.5", "0.5", '"Northquay"'}),
    ("avr-gcc -O2 -mmcu=atmega328p", {'"Northquay"', "7, 99, -3, 12, 5"}),
])  # fmt: skip
def test_compilers_own_constants_are_those_of_the_source(
    tmp_path: Path, build: str, wanted: set[str]
) -> None:
    source = tmp_path / "marks.c"
    source.write_text(SOURCE)
    if hot_anvil("compile", source, "--build", build).returncode:
        lacking(build)
    functions = document("listing", source, "--build", build)["functions"]
    told = {item["value"]: function["title"] for function in functions
            for line in function["lines"] for item in line["instructions"]
            if "value" in item}  # fmt: skip
    assert wanted <= set(told)
    assert "bump" not in told.values()  # its table changes
