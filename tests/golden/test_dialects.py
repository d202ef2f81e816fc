"""Every dialect: what is read is what the disassembler and the line table say."""

import io
import re
import subprocess
from collections import Counter
from pathlib import Path

import pytest
from elftools.elf.elffile import ELFFile

from conftest import DEMO, NEED_ALL, lacking
from hot_anvil.core.arch import syntax_of
from hot_anvil.core.binary.dwarf import allow_two_byte_addresses
from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import COMPILED, Built, Unit
from hot_anvil.core.code.records import Code, Function
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.proof.records import BROKEN, PROVED
from hot_anvil.core.toolchain.records import Toolchain, find_toolchain
from hot_anvil.system.build.compiling import compile_unit
from hot_anvil.system.build.debug_flag import prove_debug
from hot_anvil.system.build.jobs import load_code, make_job
from hot_anvil.system.build.link_time import link_whole
from hot_anvil.system.store.store import Store
from hot_anvil.system.toolchain.binutils import find_tool
from hot_anvil.system.toolchain.finding import find_toolchains

SOURCES = [Path(__file__).parents[1] / "sources" / "quay.c", DEMO / "clamp.c", DEMO / "crossings.c"]
COMPILERS = [
    "gcc", "gcc -m32", "gcc-11", "clang-14", "clang-16",
    "avr-gcc -mmcu=atmega328p", "arm-none-eabi-gcc -mthumb -mcpu=cortex-m3",
    "arm-linux-gnueabihf-gcc", "aarch64-linux-gnu-gcc", "riscv64-linux-gnu-gcc",
    "clang-16@i386", "clang-16@aarch64", "clang-16@arm", "clang-16@thumb", "clang-16@riscv64",
    "clang-16@riscv32", "clang-16@avr", "clang-16@msp430", "clang-14@riscv64", "clang-14@thumb",
]  # fmt: skip
LEVELS = ["-O0", "-O2"]
# Without unwind tables this one orders a prologue otherwise once there are debug lines.
BREAKS: dict[tuple[str, str, str], tuple[str, ...]] = {
    ("clang-16@aarch64", "-O2", "quay.c"): (BROKEN, "chain", "follow")
}
FOUND = find_toolchains()
FAMILIES = {family.name: family for family in FOUND.families}


@pytest.fixture(scope="module")
def store(tmp_path_factory: pytest.TempPathFactory) -> Store:
    root = tmp_path_factory.mktemp("dialects")
    for source in SOURCES:
        (root / source.name).write_bytes(source.read_bytes())
    return Store(str(root))


@pytest.mark.parametrize("compiler", COMPILERS)
def test_shown_instructions_are_the_disassemblers_with_the_line_tables_lines(
    compiler: str, store: Store
) -> None:
    name, *flags = compiler.split()
    chain = find_toolchain(name, FOUND.toolchains)
    if chain is None:
        lacking(name)
        return
    for source in SOURCES:
        for level in LEVELS:
            build = Build(chain.name, "", (level, "-ffreestanding", *flags))
            job = make_job(source.name, build, chain, FAMILIES[chain.family], store.root)
            unit = compile_unit(job, store)
            if "ran out of registers" in unit.why:
                continue  # clang gives up on some code for AVR without optimisation
            assert unit.status == COMPILED, (build.name, unit.why)
            assert unit.proof.state == PROVED, (build.name, unit.proof)
            code = load_code(unit, store)
            artefact = store.artefact(unit.artefact)
            counted = disassembled(chain, artefact.object)
            proof = unit.proof
            told = proof.instructions + proof.extra + proof.padding + proof.data
            assert (code.total, told) == (proof.instructions, counted), build.name
            lines_agree(code, unit, chain, store)
            built = Built(snippet_of(unit), build, (unit,), True)
            views_agree(code, built, store)
            left_alone = prove_debug(built, {unit.source: job}, store)
            answer = (left_alone.state, *left_alone.functions)
            expected = BREAKS.get((compiler, level, source.name), (PROVED,))
            assert answer == expected, (build.name, source.name, left_alone)


def disassembled(chain: Toolchain, path: Path) -> int:
    """Count what the target's own disassembler prints, in a way of its own."""
    tool = find_tool(chain, "objdump")
    assert tool is not None
    text = subprocess.run(
        [tool, "-d", "-z", "--no-show-raw-insn", path], capture_output=True, text=True, check=True
    )
    return len(re.findall(r"^ *[0-9a-f]+:\s", text.stdout, re.MULTILINE))


def lines_agree(code: Code, unit: Unit, chain: Toolchain, store: Store) -> None:
    """Compare each instruction's line with the line table, read by pyelftools alone."""
    linker = find_tool(chain, "ld")
    assert linker is not None
    path = store.artefact(unit.artefact).object
    work = store.scratch()
    argv: list[str | Path] = [
        linker,
        "-e",
        "0",
        "--unresolved-symbols=ignore-all",
        "-o",
        "x.elf",
        path,
    ]
    if chain.isa == "riscv":
        argv += ["--no-relax"]
    if path.read_bytes()[4] == 1 and chain.isa in ("x86", "riscv"):
        argv += ["-m", "elf_i386" if chain.isa == "x86" else "elf32lriscv"]
    if linker.is_llvm:
        argv += ["--image-base=0x1000", "-z", "max-page-size=4096"]
    subprocess.run(argv, cwd=work, check=True, capture_output=True)
    image = ELFFile(io.BytesIO((work / "x.elf").read_bytes()))
    before, after = (symbols(ELFFile(io.BytesIO(path.read_bytes()))), symbols(image))
    rows = line_rows(image)
    checked = 0
    for function in code.functions:
        if function.name not in before:
            continue
        moved = after[function.name] - before[function.name]
        for i in function.instructions:
            assert i.address >= 0, i
            at = max((row for row in rows if row <= i.address + moved), default=None)
            assert at is not None and rows[at] == i.line, (function.name, i, rows[at or 0])
            checked += 1
    assert checked > 20


def symbols(elf: ELFFile) -> dict[str, int]:
    table = elf.get_section_by_name(".symtab")
    found = [s for s in table.iter_symbols() if s["st_info"]["type"] == "STT_FUNC"]
    arm = elf["e_machine"] == "EM_ARM"
    return {s.name: s["st_value"] & ~1 if arm else s["st_value"] for s in found}


def line_rows(elf: ELFFile) -> dict[int, int]:
    allow_two_byte_addresses()
    rows: dict[int, int] = {}
    dwarf = elf.get_dwarf_info()
    for unit in dwarf.iter_CUs():
        for entry in dwarf.line_program_for_CU(unit).get_entries():
            if entry.state and entry.state.end_sequence:
                rows.setdefault(entry.state.address, 0)
            elif entry.state:
                rows[entry.state.address] = entry.state.line
    return rows


def snippet_of(unit: Unit) -> Snippet:
    return Snippet("x", "", (unit.source,), (), "", {}, {})


def views_agree(code: Code, built: Built, store: Store) -> None:
    """Compare the emitted and the linked view by function and line."""
    whole = link_whole(built, FOUND.toolchains, FOUND.families, store)
    assert whole.status == COMPILED, (built.build.name, whole.why)
    linked = {f.name: f for f in load_code(whole, store).functions}
    expands = syntax_of(code.isa).expands
    for function in code.functions:
        left, right = by_line(function), by_line(linked[function.name])
        for line in dict.fromkeys((*left, *right)):
            mine = [i for i in function.instructions if i.line == line]
            # The linker may shorten what the assembler made of several, and drops nothing else.
            slack = sum(i.parts - 1 for i in mine) if expands else 0
            loose = (
                sum(
                    bool(expands.match(i.mnemonic) or "%pcrel" in i.text or "%lo" in i.text)
                    for i in mine
                )
                if expands
                else 0
            )
            differ = left[line] - right[line]
            assert 0 <= differ <= slack + loose, (
                built.build.name,
                function.name,
                line,
                left,
                right,
            )


def by_line(function: Function) -> Counter[int]:
    """Count machine instructions by line, fillers apart."""
    counts: Counter[int] = Counter()
    for i in function.instructions:
        if i.mnemonic not in ("nop", "nop.n"):
            counts[i.line] += i.parts
    return counts


def test_the_corpus_is_large_enough() -> None:
    here = [c for c in COMPILERS if find_toolchain(c.split()[0], FOUND.toolchains)]
    assert len(here) * len(SOURCES) * len(LEVELS) >= 60 or not NEED_ALL
