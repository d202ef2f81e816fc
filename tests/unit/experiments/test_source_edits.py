"""Edits that are tried: real compilers take every one, and every line keeps its number."""

import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from hot_anvil.core.experiments.edits import edits_of
from hot_anvil.core.experiments.records import Edit, EditError, Experiment, edited, together
from hot_anvil.core.experiments.subject import Subject
from hot_anvil.core.experiments.syntax import Source

NEED = Callable[..., None]
LEVELS = """#include <stdint.h>
int32_t offset_of(int32_t level);
static int32_t alarm_at = 9;

int32_t smoothed(int32_t a, int32_t b)
{
    return (a + b) / 2;
}

static int32_t most(const int32_t levels[], uint32_t n)
{
    int32_t found = levels[0];
    for (uint32_t i = 1; i < n; i += 1)
        if (levels[i] > found)
            found = levels[i];
    return found;
}

int32_t raised(int32_t *kept, const int32_t *levels, const int32_t by[], int32_t n,
               int32_t width)
{
    int32_t sum = 0; /* café */
    for (int i = 0; i < n; i++) {
        if (levels[i] / width > alarm_at)
            sum++;
        kept[i] = smoothed(levels[i], *by) + offset_of(i);
    }
    return sum + most(levels, n);
}

_Static_assert(__LINE__ == 31, "a line was added or lost");
// what is put behind the end must not become part of this
"""
OFFSETS = """#include <stdint.h>
static const int32_t known[2] = {3, 4};
int32_t offset_of(int32_t level)
{
    return known[level & 1];
}
"""
GAUGES = """#include <cstdint>
struct Gauge {
    virtual int32_t read(int32_t raw) const { return raw; }
};
class Tide : public Gauge {
public:
    int32_t read(int32_t raw) const override { return raw * 3; }
};
int32_t total(const Tide &gauge, const int32_t *levels, int32_t n)
{
    int32_t sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += gauge.read(levels[i]);
    return sum;
}
static_assert(__LINE__ == 16, "");
"""
CUT = """pub fn both(out: &mut [i32], a: &[i32], b: &[i32], n: usize) {
    for i in 0..n {
        out[i] = a[i] ^ b[n - 1 - i];
    }
}
const _: () = assert!(line!() == 6);
"""


def subject_of(entry: str, family: str, **sources: tuple[str, str]) -> Subject:
    made = {f"{name}": Source(name, text, lang) for name, (text, lang) in sources.items()}
    return Subject(entry, made, family, "x86", {"n": (64, 8, 16), "width": (60,)})


def made_of(subject: Subject) -> dict[str, Experiment]:
    return {one.name: one for one in edits_of(subject)}


@pytest.mark.parametrize("family", ["gcc", "clang"])
def test_every_edit_of_c_compiles_and_keeps_the_lines(
    tmp_path: Path, need: NEED, family: str
) -> None:
    compiler = {"gcc": "gcc-12", "clang": "clang-16"}[family]
    need(compiler)
    found = made_of(
        subject_of("raised", family, **{"levels.c": (LEVELS, "c"), "offsets.c": (OFFSETS, "c")})
    )
    names = set(found)
    assert {
        "restrict kept", "restrict levels", "restrict by", "restrict on all", "wide counters",
        "inline smoothed", "no inline smoothed", "aligned buffers", "unlikely branch of line 24",
        "likely branch of line 24", "independent passes", "unroll by 4", "n = 8 apart",
        "n = 64 apart", "width = 60 apart", "static smoothed", "pure offset_of",
        "const offset_of", "offsets.c in one unit", "signed counters in most",
    } <= names  # fmt: skip
    assert "n = 16 apart" not in names and "static most" not in names
    texts = {"levels.c": LEVELS, "offsets.c": OFFSETS}
    for one in found.values():
        for file, text in texts.items():
            edits = [edit for edit in one.edits if edit.file == file]
            (tmp_path / file).write_text(edited(text, edits))
        done = subprocess.run(
            [compiler, "-O2", "-c", "levels.c"], cwd=tmp_path,
            capture_output=True, text=True, check=False,
        )  # fmt: skip
        assert done.returncode == 0, (one.name, done.stderr)
        assert b"raised\0" in (tmp_path / "levels.o").read_bytes(), one.name


def test_edits_of_cplusplus_and_rust_compile_too(tmp_path: Path, need: NEED) -> None:
    need("g++-12", "rustc")
    found = made_of(subject_of("total", "gcc", **{"gauges.cpp": (GAUGES, "c++")}))
    assert "final Tide" in found and "final Gauge" not in found
    for one in found.values():
        (tmp_path / "gauges.cpp").write_text(edited(GAUGES, one.edits))
        subprocess.run(["g++-12", "-c", "gauges.cpp"], cwd=tmp_path, check=True)
    found = made_of(subject_of("both", "rustc", **{"cut.rs": (CUT, "rust")}))
    assert set(found) == {"unchecked indexes", "slices of one length"}
    assert "get_unchecked_mut(i)" in edited(CUT, found["unchecked indexes"].edits)
    for one in found.values():
        (tmp_path / "cut.rs").write_text(edited(CUT, one.edits))
        command = ["rustc", "--crate-type=lib", "--emit=metadata", "-Adead_code", "cut.rs"]
        subprocess.run(command, cwd=tmp_path, check=True)


def test_where_an_edit_cannot_be_made_none_is_offered() -> None:
    """An entry that a macro makes, a file with variables of its own, a second name in one place."""
    macro = "#define MAKE(name) int name(int a) { return a; }\nMAKE(level)\n"
    assert not made_of(subject_of("level", "gcc", **{"m.c": (macro, "c")}))
    counting = OFFSETS.replace("static const", "static")
    own = {"levels.c": (LEVELS, "c"), "offsets.c": (counting, "c")}
    assert "offsets.c in one unit" not in made_of(subject_of("raised", "gcc", **own))


def test_of_several_definitions_the_one_that_is_compiled_is_edited() -> None:
    text = (
        "#ifdef SLOW\nint a(int *x)\n{ return *x; }\n#else\nint a(int *y)\n{ return *y; }\n#endif\n"
    )
    for line, name in ((0, "x"), (2, "x"), (5, "y"), (6, "y")):
        subject = Subject("a", {"a.c": Source("a.c", text, "c")}, "gcc", "x86", {}, line)
        assert f"restrict {name}" in made_of(subject), line


def test_edits_are_put_together_where_they_do_not_meet() -> None:
    one = Experiment("a", "", "p", ("-fa",), (Edit("f", 0, 1, "x"),), apart=("k",))
    two = Experiment("b", "", "q", ("-fa", "-fb"), (Edit("f", 2, 2, "y"),), loosens=True)
    both = together([one, two])
    assert (both.name, both.promise, both.flags) == ("a and b", "p; q", ("-fa", "-fb"))
    assert both.apart == ("k",) and both.loosens and both.parts == ("a", "b")
    assert edited("abc", both.edits) == "xbyc"
    for clash in (Edit("f", 0, 2, "z"), Edit("f", 0, 1, "z")):
        with pytest.raises(EditError):
            together([one, two._replace(edits=(clash,))])
    with pytest.raises(EditError):
        together([one, two._replace(toolchain="clang-16")])
    for flag in ("-fno-a", "-O3"):  # beside -fa and -O2
        with pytest.raises(EditError):
            together([one._replace(flags=("-fa", "-O2")), two._replace(flags=(flag,))])
