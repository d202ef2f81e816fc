"""Small readers: diagnostics, dependency rules, places in TOML, numbers in words."""

import re
import subprocess
import sys
import tomllib
from collections.abc import Sequence
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import COMMAND, document
from hot_anvil.core.config.positions import line_of
from hot_anvil.core.config.reading import read_bench
from hot_anvil.core.names import matches, nearest
from hot_anvil.core.toolchain.messages import read_dependencies, read_diagnostics
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.views.text.report import Report, Span
from hot_anvil.views.text.words import digits, duration, interval

DOCS = Path(__file__).parents[3] / "docs"
GCC_JSON = (
    '[{"kind": "warning", "locations": [{"caret": {"file": "ebb.c", "line": 4, "column": 9}}], '
    '"message": "unused variable \'tide\'", "option": "-Wunused-variable", "children": []}]'
)


@pytest.mark.parametrize(
    ("form", "text", "found"),
    [
        ("gcc-json", GCC_JSON, ("ebb.c", 4, 9, "warning",
                                "unused variable 'tide' [-Wunused-variable]")),
        ("gcc-json", "[]", None),
        ("gcc-json", "cc1: error: bad value 'quay' for '-march='",
         ("", 0, 0, "error", "bad value 'quay' for '-march='")),
        ("text", "a dir/ebb.c:7:3: fatal error: 'tide.h' file not found",
         ("a dir/ebb.c", 7, 3, "error", "'tide.h' file not found")),
        ("text", "ebb.c:7: warning: old style", ("ebb.c", 7, 0, "warning", "old style")),
        ("text", "clang: error: unknown argument: '-fquay'",
         ("", 0, 0, "error", "unknown argument: '-fquay'")),
        ("text", "1 warning generated.", None),
    ],
)  # fmt: skip
def test_complaints_are_read_with_their_place(
    form: str, text: str, found: tuple[str, int, int, str, str] | None
) -> None:
    expected = [found] if found else []
    assert [tuple(d) for d in read_diagnostics(text, form)] == expected


def test_each_compiler_names_the_same_line(tmp_path: Path, toolchains: Sequence[Toolchain]) -> None:
    source = tmp_path / "quay wall.c"
    source.write_text("int quay(int depth)\n{\n    int tide;\n    return 7;\n}\n")
    builds = [word for c in toolchains for word in ("--build", f"{c.name} -Wall -Wextra")]
    found = document("compile", source, *builds)
    assert len(found["builds"]) == len(toolchains)
    for build in found["builds"]:
        places = {(d["file"], d["line"], d["severity"]) for d in build["diagnostics"]}
        assert {("quay wall.c", 1, "warning"), ("quay wall.c", 3, "warning")} <= places


@given(
    st.lists(
        st.text(st.characters(exclude_characters="\n\r\\\0:\t#", codec="ascii"), min_size=1)
        .map(str.strip)
        .filter(bool),
        max_size=6,
    )
)
def test_dependency_rules_give_back_every_name(names: list[str]) -> None:
    # As compilers write them: blanks escaped, dollars doubled, lines continued.
    written = [name.replace("$", "$$").replace(" ", "\\ ") for name in names]
    rule = "x: " + " \\\n ".join(written) + "\n"
    assert list(read_dependencies(rule)) == names


@given(st.lists(st.sampled_from(["low", "high", "levels"]), min_size=1, max_size=3, unique=True))
def test_the_line_of_a_key_is_where_it_stands(keys: list[str]) -> None:
    text = "[[snippet]]\nname = 'ebb'\n\n[[snippet]]\nname = 'flow'\n[snippet.inputs]\n"
    text += "".join(f"\n{key} = 1\n" for key in keys)
    for number, key in enumerate(keys):
        line = line_of(text, ("snippet", 1, "inputs", key))
        assert line == 8 + 2 * number
        assert text.split("\n")[line - 1].startswith(key)
    assert line_of(text, ("snippet", 0, "name")) == 2
    assert line_of(text, ("snippet", 1, "nowhere")) == 4
    assert line_of(text, ("nowhere",)) is None


def test_the_bench_of_the_docs_is_a_bench() -> None:
    text = (DOCS / "bench-file.md").read_text()
    block = "\n".join(re.findall(r"```toml\n(.*?)```", text, re.DOTALL))
    bench = read_bench(tomllib.loads(block), block, "anvil.toml", "/quay")
    assert bench.snippets[0].entries == ("clamp_branch", "clamp_select")
    assert bench.custom[0].name == "quaycc"
    assert bench.snippets[0].expectations[0].facts["per pass"] == "<= 60"


@given(st.floats(1e-12, 1e6))
def test_numbers_keep_three_digits(value: float) -> None:
    shown = digits(value)
    assert "e" not in shown or value < 0.09995
    assert float(shown) == pytest.approx(value, rel=0.006)
    number, unit = duration(value).split()
    scale = {"s": 1, "ms": 1e-3, "us": 1e-6, "ns": 1e-9}[unit]
    assert float(number) * scale == pytest.approx(value, rel=0.006)


def test_numbers_of_known_values() -> None:
    assert [digits(v) for v in (0, 0.42, 1, 9.999, 12.34, 1234.5)] == [
        "0", "0.420", "1.00", "10.0", "12.3", "1234",
    ]  # fmt: skip
    assert (duration(2.5e-8), duration(None), interval(0.4, 0.444)) == (
        "25.0 ns", "unknown", "0.400 to 0.444",
    )  # fmt: skip


def test_tables_align_drop_spare_columns_and_wrap_the_last() -> None:
    report = Report(40)
    rows: list[tuple[str | Span, ...]] = [
        ("ebb", "1 B", Span("short", "dim")),
        ("flow", "20 B", "a long reason " * 4),
    ]
    report.table(("name", "code", "why"), rows, "lrl")
    lines = report.text.splitlines()
    assert lines[1].startswith("  ebb    1 B  short")
    assert lines[2].startswith("  flow  20 B  a long reason")
    assert max(map(len, lines)) <= 40 and len(lines) > 3
    narrow = Report(13)
    narrow.table(("name", "code", "n"), [("ebb", "100 B", "7")], "lrr", spare=(1,))
    assert "100 B" not in narrow.text and "ebb" in narrow.text


def test_near_names_and_globs() -> None:
    assert nearest("clmap", ["clamp", "checksum"]) == "clamp"
    assert nearest("zzz", ["clamp"]) is None
    assert matches("gcc-12:fast", "gcc*:f?st") and not matches("gcc-12", "gcc")


HEAVY = ("numpy", "scipy", "rich", "elftools", "sqlite3", "subprocess", "concurrent")


def test_a_warm_diff_loads_nothing_heavy(demo: Path) -> None:
    program = (
        "import sys; from hot_anvil.cli.main import main\n"
        f"main(['diff', {str(demo)!r}, 'gcc:plain', 'gcc:fast', '--out', '/dev/null'])\n"
        "print('CUT', file=sys.stderr)\n"
    )
    subprocess.run([sys.executable, "-c", program], check=True, capture_output=True)
    watched = (
        "import sys; from hot_anvil.cli.main import main\n"
        f"main(['diff', {str(demo)!r}, 'gcc:plain', 'gcc:fast', '--out', '/dev/null'])\n"
        "print(*sorted({name.split('.')[0] for name in sys.modules}))\n"
    )
    said = subprocess.run(
        [sys.executable, "-c", watched], check=True, capture_output=True, text=True
    )
    loaded = set(said.stdout.split())
    assert loaded & {"hot_anvil"} and not loaded & set(HEAVY)
    version = "import sys; from hot_anvil.cli.main import main; main(['--version']); "
    listed = subprocess.run(
        [sys.executable, "-c", version + "print(len(sys.modules))"],
        check=True, capture_output=True, text=True,
    ).stdout  # fmt: skip
    bare = subprocess.run(
        [sys.executable, "-c", "import sys; print(len(sys.modules))"],
        check=True, capture_output=True, text=True,
    ).stdout  # fmt: skip
    assert int(listed.split()[-1]) <= int(bare) + 5
    assert COMMAND.exists()
