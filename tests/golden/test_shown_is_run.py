"""What is shown is what runs: over a corpus of sources, compilers and flags."""

import re
import subprocess
from collections.abc import Sequence
from pathlib import Path

import pytest

from conftest import DEMO
from hot_anvil.core.arch import syntax_of
from hot_anvil.core.asm.disassembly import Decoded, read_assembler_listing, read_objdump
from hot_anvil.core.asm.gnu import TOP_LEVEL, read_assembly
from hot_anvil.core.binary.elf import function_bodies, image_differs
from hot_anvil.core.build.builds import Build
from hot_anvil.core.code.records import Code
from hot_anvil.core.code.stored import from_plain, to_plain
from hot_anvil.core.code.text import split_operands, split_statements
from hot_anvil.core.proof.records import BROKEN, PROVED
from hot_anvil.core.proof.shown_code import match_objects, prove_text
from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.system.build.compiling import compile_unit
from hot_anvil.system.build.jobs import load_code, make_job
from hot_anvil.system.store.store import Store

SOURCES = [*sorted(DEMO.glob("*.c")), *sorted((Path(__file__).parents[1] / "sources").iterdir())]
FLAGS = ["-O0", "-O1 -fno-pie", "-Os", "-O2 -g", "-O3 -march=native", "-O2 -ffunction-sections"]


@pytest.fixture(scope="module")
def store(tmp_path_factory: pytest.TempPathFactory) -> Store:
    root = tmp_path_factory.mktemp("corpus with blank")
    for source in SOURCES:
        (root / source.name).write_bytes(source.read_bytes())
    return Store(str(root))


@pytest.mark.parametrize("source", [source.name for source in SOURCES])
def test_every_build_of_the_corpus_is_proved(
    source: str, store: Store, toolchains: Sequence[Toolchain], families: dict[str, Family]
) -> None:
    for chain in toolchains:
        for flags in FLAGS:
            build = Build(chain.name, "", tuple(flags.split()))
            job = make_job(source, build, chain, families[chain.family], store.root)
            unit = compile_unit(job, store)
            assert unit.proof.state == PROVED, (build.name, unit.proof, unit.why)
            code = load_code(unit, store)
            # An oracle of its own: objdump's count of all that is no nop.
            shown = [i for f in code.functions for i in f.instructions if i.mnemonic != "nop"]
            path = store.artefact(unit.artefact).object
            assert len(shown) == _objdump_count(path), build.name
            lines = {i.line for f in code.functions for i in f.instructions if i.file == source}
            assert lines <= set(range(len(Path(store.root, source).read_text().split("\n")) + 1))


def _objdump_count(path: Path) -> int:
    said = subprocess.run(
        ["objdump", "-d", "--no-show-raw-insn", path], capture_output=True, text=True, check=True
    )
    bodies = re.findall(r"^ +[0-9a-f]+:\t(.*)$", said.stdout, re.MULTILINE)
    fillers = re.compile(r"(data16 |cs |rex\.W )*(nop[wl]?\b|xchg +%ax,%ax$|data16$)")
    return sum(not fillers.match(body) for body in bodies)


TEXT = """\t.file\t"surge.c"
\t.text
\t.globl\tsurge
\t.type\tsurge, @function
surge:
.LFB0:
\t.file 1 "surge.c"
\t.loc 1 3 1
\txorl\t%eax, %eax
\t.p2align 4
.L3:
\t.loc 1 4 5
\tlock; addl $1, (%rdi)
\tsubl\t$1, %esi
\tjne\t.L3
\tret
"""


FILLERS = syntax_of("x86").fillers


def differs(left: Sequence[Decoded], right: Sequence[Decoded]) -> str:
    return match_objects(left, right, "x86")[0]


def assembled(tmp_path: Path, text: str) -> tuple[Code, tuple[tuple[int, int], ...], list[Decoded]]:
    (tmp_path / "x.s").write_text(text)
    run = ["as", "-aln=x.lst", "-o", "x.o", "x.s"]
    subprocess.run(run, cwd=tmp_path, check=True)
    dump = ["objdump", "-dr", "-w", "-z", "--no-show-raw-insn", "x.o"]
    said = subprocess.run(dump, cwd=tmp_path, check=True, capture_output=True, text=True)
    listed = read_assembler_listing((tmp_path / "x.lst").read_text())
    return read_assembly(text, "/", "x86"), listed, list(read_objdump(said.stdout))


def test_a_reader_that_loses_or_invents_code_is_caught(tmp_path: Path) -> None:
    code, listed, decoded = assembled(tmp_path, TEXT)
    proof, _ = prove_text(code, listed, TEXT, decoded)
    assert (proof.state, proof.instructions) == (PROVED, 5)
    assert proof.padding == sum(bool(FILLERS.match(item.text)) for item in decoded) > 0
    function = code.functions[0]
    for kept in (function.instructions[:-1], (*function.instructions, function.instructions[0])):
        forged = Code((function._replace(instructions=kept),), code.files, code.isa)
        assert prove_text(forged, listed, TEXT, decoded)[0].state == BROKEN


def test_an_object_that_differs_from_its_text_is_caught(tmp_path: Path) -> None:
    _, _, decoded = assembled(tmp_path, TEXT)
    assert differs(decoded, decoded) == ""
    without_padding = [item for item in decoded if not FILLERS.match(item.text)]
    assert differs(decoded, without_padding) == ""
    add = next(i for i, item in enumerate(decoded) if "addl" in item.text)
    other = decoded[add]._replace(text="lock addl $0x2,(%rdi)")
    assert "addl" in differs(decoded, [*decoded[:add], other, *decoded[add + 1 :]])
    jump = next(i for i, item in enumerate(decoded) if item.text == "jne")
    astray = decoded[jump]._replace(target=0)
    assert "goes elsewhere" in differs(decoded, [*decoded[:jump], astray, *decoded[jump + 1 :]])


def test_a_linked_image_with_other_bytes_is_caught(tmp_path: Path) -> None:
    assembled(tmp_path, TEXT + "\t.size\tsurge, .-surge\n")
    link = ["ld", "-e", "0", "-o", "x.elf", "x.o"]
    subprocess.run(link, cwd=tmp_path, check=True)
    bodies = function_bodies((tmp_path / "x.o").read_bytes())
    image = (tmp_path / "x.elf").read_bytes()
    assert image_differs(image, bodies, ["surge"]) == ""
    at = image.index(bodies["surge"].data)
    forged = image[:at] + b"\x90" + image[at + 1 :]
    assert "not those compiled" in image_differs(forged, bodies, ["surge"])
    assert "not in the object" in image_differs(image, bodies, ["ebb"])


def test_reading_keeps_lines_labels_and_odd_statements() -> None:
    code = read_assembly(TEXT, "/", "x86")
    (function,) = code.functions
    assert [i.text for i in function.instructions] == [
        "xorl %eax, %eax", "lock addl $1, (%rdi)", "subl $1, %esi", "jne .L3", "ret",
    ]  # fmt: skip
    assert [i.line for i in function.instructions] == [3, 4, 4, 4, 4]
    assert function.labels == {".L3": 1}
    assert from_plain(to_plain(code)) == code


def test_cold_parts_belong_to_their_function_and_stray_code_is_kept() -> None:
    text = (
        "\tnop\n\t.text\n\t.type f, @function\nf:\n\tret\n\t.section .text.unlikely\n"
        "\t.type f.cold, @function\nf.cold:\n\tcall abort\n\t.text\n\t.size f, .-f\n"
        "\t.data\nlevels:\n\t.long 1\n"
    )
    functions = read_assembly(text, "/", "x86").functions
    assert [(f.name, f.owner) for f in functions] == [
        (TOP_LEVEL, TOP_LEVEL), ("f", "f"), ("f.cold", "f"),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("line", "statements"),
    [
        ('.string "on; # off" # why', ['.string "on; # off"']),
        (r'.ascii "a\"; b" ; nop', [r'.ascii "a\"; b"', "nop"]),
        ("nop ; lock; addl $1, (%rax) # x", ["nop", "lock", "addl $1, (%rax)"]),
    ],
)
def test_statements_end_at_semicolons_outside_strings(line: str, statements: list[str]) -> None:
    assert split_statements(line) == statements


def test_operands_end_at_commas_outside_parentheses() -> None:
    assert split_operands("8(%rdi,%rax,4), %xmm0") == ("8(%rdi,%rax,4)", "%xmm0")
    assert split_operands("") == ()
