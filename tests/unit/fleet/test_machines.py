"""Which machines may be compared, and what code needs of them."""

import subprocess
from pathlib import Path

import pytest

from conftest import CORPUS
from hot_anvil.core.arch import needs_of, standard_levels
from hot_anvil.core.asm.reading import read_text
from hot_anvil.core.fleet.machines import (
    Compiler,
    Machine,
    cannot_run,
    machine_classes,
    needs_of_code,
    who_has,
)
from hot_anvil.core.toolchain.records import Toolchain


def machine(
    name: str, processor: str = "Quay(R) Gauge(TM) 7 CPU @ 2.0GHz", **more: object
) -> Machine:
    plain = Machine(
        name, name, processor, "x86_64", frozenset({"fpu"}), 4, 1 << 30, "Debian 12", 0.1
    )
    return plain._replace(**more)  # type: ignore[arg-type]


def level_features(level: str) -> frozenset[str]:
    needs = needs_of("x86")
    assert needs
    levels = standard_levels("x86")
    return frozenset().union(*(needs.levels.get(x, ()) for x in levels[: levels.index(level) + 1]))


def test_a_class_is_one_processor_with_its_features_and_system() -> None:
    rows = [
        machine("a"),
        machine("b", cores=64, load=7.0),  # neither makes a class
        machine("c", features=frozenset({"fpu", "avx2"})),
        machine("d", system="Debian 13"),
        machine("e", "Pier 9"),
    ]
    classes = machine_classes(rows)
    names = {one.name: [m.name for m in one.machines] for one in classes}
    assert names == {
        "quay-gauge-7": ["a", "b"],
        "quay-gauge-7-2": ["c"],
        "quay-gauge-7-3": ["d"],
        "pier-9": ["e"],
    }


@pytest.mark.parametrize("level", standard_levels("x86"))
def test_levels_are_read_off_features(level: str) -> None:
    assert machine("a", features=level_features(level)).level == level
    if level != "x86-64":
        without = level_features(level) - {min(needs_of("x86").levels[level])}  # type: ignore[union-attr]
        assert machine("a", features=without).level != level


def test_compilers_are_told_apart_by_content() -> None:
    one = machine("a", compilers=(Compiler("gcc-12", "12.2.0", "f00"),))
    other = machine("b", compilers=(Compiler("gcc-12", "12.2.0", "bad"),))
    assert who_has("f00", {"tcp://a": one, "tcp://b": other}) == ("tcp://a",)


@pytest.mark.parametrize("level", standard_levels("x86"))
def test_code_for_a_level_needs_no_more_than_it(
    level: str, toolchains: tuple[Toolchain, ...], tmp_path: Path
) -> None:
    """No build is called unable to run where it can: real compilers, every level."""
    allowed, seen = level_features(level), set[str]()
    for chain in toolchains:
        for source in ("levels", "memory", "plain", "tide", "values", "gate"):
            text = tmp_path / "code.s"
            argv = [chain.drivers["c"].path, "-O3", f"-march={level}", "-w", "-S", "-o", str(text)]
            subprocess.run([*argv, str(CORPUS / f"{source}.c")], check=True)
            code = read_text(text.read_text(), str(tmp_path), "x86")
            seen |= needs_of_code(code.functions, "x86")
    assert seen <= allowed
    if level == "x86-64":
        assert not seen
    else:  # and it is not that nothing is ever needed
        assert seen & needs_of("x86").levels[level]  # type: ignore[union-attr]


@pytest.mark.parametrize(
    ("text", "needed"),
    [
        ("vpaddd %ymm1, %ymm0, %ymm0", {"avx", "avx2"}),
        ("vaddps %ymm1, %ymm0, %ymm0", {"avx"}),
        ("vaddps %xmm17, %xmm0, %xmm0", {"avx512f", "avx512vl"}),
        ("vpaddb %zmm1, %zmm0, %zmm0{%k1}", {"avx512f", "avx512bw"}),
        ("vpopcntq %zmm1, %zmm1", {"avx512f", "avx512_vpopcntdq"}),
        ("vfmadd231ss %xmm1, %xmm0, %xmm2", {"avx", "fma"}),
        ("shrxq %rcx, %rdx, %rdi", {"bmi2"}),
        ("paddd %xmm1, %xmm0", set()),
        ("rep bsfl %eax, %eax", set()),  # runs anywhere, as another instruction
    ],
)
def test_what_an_instruction_needs(text: str, needed: set[str]) -> None:
    code = read_text(f"surge:\n\t{text}\n", "/", "x86")
    assert needs_of_code(code.functions, "x86") == needed


def test_code_that_asks_the_processor_is_not_refused() -> None:
    text = "surge:\n\tcpuid\n\tvpaddd %zmm1, %zmm0, %zmm0\n"
    assert not needs_of_code(read_text(text, "/", "x86").functions, "x86")


def test_atomics_of_aarch64() -> None:
    code = read_text("surge:\n\tldaddal w0, w1, [x2]\n\tadd w0, w0, w1\n", "/", "aarch64")
    needed = needs_of_code(code.functions, "aarch64")
    assert needed == {"atomics"}
    old = machine("a", "Quay A53", architecture="aarch64", features=frozenset({"fp", "asimd"}))
    assert "needs atomics" in cannot_run(needed, old)
    assert not cannot_run(needed, old._replace(features=old.features | {"atomics"}))
    assert not cannot_run(needed, old._replace(features=frozenset()))  # it does not tell: tried
