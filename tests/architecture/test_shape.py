"""The shape of the code: who imports whom, where mnemonics may be, what the store trusts."""

import ast
import re
import subprocess
import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path

import import_rules
import pytest

from conftest import ROOT
from hot_anvil.core.arch import architecture, isa_name, names
from hot_anvil.system.store import stages

SRC = ROOT / "src" / "hot_anvil"
# English words that some instruction set has as a mnemonic.
ENGLISH = frozenset(
    "add and b bit bits bra by call clear clr cmp cpy cut di div exit ext fabs fmin get hop idle "
    "in inc it j ld la leave mul neg not nop or out pop push put run sb sd set sets sh si st str "
    "sub sum swap tail test trap wait wfi add adds move".split()
)
# A register as code names it; plain words that look like one are in ENGLISH.
REGISTER = re.compile(
    r"%?(?:[re](?:ax|bx|cx|dx|si|di|bp|sp|ip)|r\d+[dwb]?|[xyz]mm\d*|[xw](?:[12]?\d|3[01])|[xw]zr|"
    r"__zero_reg__|__tmp_reg__|__SP_[LH]__)$"
)


def literals(file: Path) -> Iterator[tuple[int, str]]:
    """Give (line, text) of every string in a module that is no docstring."""
    tree = ast.parse(file.read_text())
    docs = {
        id(node.body[0].value)
        for node in ast.walk(tree)
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef)
        and isinstance(node.body[0], ast.Expr)
    }
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in docs:
            yield node.lineno, node.value


def known_to_one(text: str, mnemonics: frozenset[str]) -> list[str]:
    """Return the words of a text that only an instruction set has; flags and paths are none."""
    words = re.findall(r"(?<![\w.$/-])%?[A-Za-z_][\w.]*", text)
    return [
        w
        for w in (word.rstrip(".") for word in words)
        if w in names() or isa_name(w) == w or REGISTER.match(w) or (w in mnemonics - ENGLISH)
    ]


def all_mnemonics() -> frozenset[str]:
    tables = tomllib.loads((ROOT / "tests" / "corpus" / "mnemonics.toml").read_text())
    return frozenset(word for text in tables.values() for word in text.split())


def test_only_core_arch_names_instruction_sets_registers_and_mnemonics() -> None:
    mnemonics = all_mnemonics()
    # Names of C functions and of a section's address, not of instructions.
    fine = {("core/measure/sharing.py", "cmp"), ("views/text/ledger.py", "x32")}
    fine |= {("core/trace/locating.py", name) for name in ("xor", "shl", "dup")}  # of DWARF
    # Operations of compilers' own forms, names of their passes, a namespace.
    fine |= {("core/stages/llvm.py", name) for name in ("sdiv", "udiv", "fdiv", "cmpxchg")}
    fine |= {("core/stages/rtl_text.py", name) for name in ("udiv", "xor")}
    fine |= {("core/remarks/records.py", name) for name in ("sra", "cp")}
    fine |= {(f"{place}.py", "std") for place in ("core/stages/called", "views/text/calls")}
    found = []
    for file in sorted(SRC.rglob("*.py")):
        place = str(file.relative_to(SRC))
        if place.startswith("core/arch/"):
            continue
        for line, text in literals(file):
            hits = [w for w in known_to_one(text, mnemonics) if (place, w) not in fine]
            if hits and not _functions_of_c(place, text):
                found.append(f"{place}:{line}: {hits} in {text[:60]!r}")
    assert not found, "\n".join(found)
    assert known_to_one("movzbl %eax", mnemonics) == ["movzbl", "%eax"]
    assert known_to_one("if isa == 'riscv'", mnemonics) == ["riscv"]


def _functions_of_c(place: str, text: str) -> bool:
    """Tell patterns of C function names, which hold pieces that look like mnemonics."""
    return place in ("core/measure/sharing.py", "core/model/symbols.py") and "|" in text


def test_each_instruction_set_is_found_by_its_targets_alone() -> None:
    targets = {
        "x86_64-linux-gnu": "x86", "i686-pc-linux-gnu": "x86", "aarch64-linux-gnu": "aarch64",
        "arm64-apple-darwin": "aarch64", "arm-none-eabi": "arm", "thumbv7em-none-eabi": "arm",
        "riscv32-unknown-elf": "riscv", "avr": "avr", "msp430": "msp430", "nvptx64": "ptx",
        "wasm32": "",
    }  # fmt: skip
    assert {target: isa_name(target) for target in targets} == targets
    assert {architecture(name).name for name in names()} == set(names())


def test_imports_keep_to_the_plan_and_the_check_can_fail(tmp_path: Path) -> None:
    assert import_rules.breaches(SRC) == []
    for name, text in (
        ("core/code/x.py", "import os\nfrom hot_anvil.core.diff import y\n"),
        ("core/diff/y.py", "from hot_anvil.core.code import x\nprint(1)\n"),
        ("cli/z.py", "from hot_anvil.system.store import s\n"),
        ("system/store/s.py", "from hot_anvil.api import a\n"),
        ("native/worker.h", "/* io.c */\nvoid io(void);\n/* slots.c */\nvoid slot(void);\n"),
        ("native/io.c", "void io(void)\n{ slot(); }\n"),
        ("native/slots.c", "void slot(void)\n{ io(); }\n"),
    ):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text(text)
    told = "\n".join(import_rules.breaches(tmp_path))
    for part in (
        "core.code.x must not import os", "core.code.x must not import core.diff.y",
        "circle of modules: core.code.x -> core.diff.y", "must not call print",
        "cli.z must not import system.store", "system.store.s must not import api",
        "circle of packages: core.code -> core.diff", "circle in native: io.c -> slots.c",
    ):  # fmt: skip
        assert part in told, told


# Where a stage's work begins, in code that the store cannot trust once it has changed.
ROOTS = {
    "code": ("system.build.compiling", "system.build.jobs"),
    "facts": ("core.facts.gather",),
    "comparison": ("core.reasons.comparing", "core.diff.stored"),
}


@pytest.mark.parametrize("stage", ROOTS)
def test_a_stage_names_all_code_that_its_results_depend_on(stage: stages.Stage) -> None:
    known = import_rules.modules(SRC)
    todo, seen = list(ROOTS[stage]), set[str]()
    while todo:
        module = todo.pop()
        if module not in seen:
            seen.add(module)
            todo += [m for _, m in import_rules.imports(known[module], known) if m in known and m]
    parts = stages.STAGES[stage]
    missing = [
        module
        for module in seen
        if not (str(known[module].relative_to(SRC)).startswith(tuple(parts)))
        and known[module].name != "__init__.py" and module != "_version"
    ]  # fmt: skip
    assert missing == []
    assert all((SRC / part).exists() for part in parts)


def test_the_answer_of_other_code_of_ours_is_not_taken(tmp_path: Path) -> None:
    """A rule that changes makes its results anew, with no number to raise by hand."""
    script = (
        "import hot_anvil.system.store.stages as s, pathlib, sys\n"
        "s._ROOT = pathlib.Path(sys.argv[1])\nprint(s.stage_digest('facts'))\n"
    )
    for part in {part for parts in stages.STAGES.values() for part in parts}:
        target = tmp_path / (part if part.endswith(".py") else f"{part}/rule.py")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text("LEAST = 3\n")

    def digest() -> str:
        words = [sys.executable, "-c", script, str(tmp_path)]
        return subprocess.run(words, capture_output=True, text=True, check=True).stdout

    first = digest()
    (tmp_path / "core/reasons/rule.py").write_text("LEAST = 40\n")
    assert digest() == first  # reasons are none of its business
    (tmp_path / "core/facts/rule.py").write_text("LEAST = 40\n")
    assert digest() != first


def test_every_path_that_the_docs_name_is_there() -> None:
    pages = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *(ROOT / "docs").rglob("*.md")]
    where = (ROOT, ROOT / "src" / "hot_anvil")
    for page in pages:
        text = page.read_text()
        folders = "core|system|usecases|views|cli|native|data|tests|tools|benchmarks|docs"
        for path in re.findall(rf"`((?:{folders})/[\w/.]*)`", text):
            stands_for_many = re.search(r"\b[A-Z]+\b", path)
            assert stands_for_many or any((root / path).exists() for root in where), path
        for link in re.findall(r"\]\((?!http)([^)#]+)", text):
            assert (page.parent / link).exists(), f"{page.name}: {link}"
