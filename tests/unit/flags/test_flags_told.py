"""What compilers say that flags stand for, and the words of a command line."""

from hot_anvil.core.flags.records import TUNING, Change
from hot_anvil.core.flags.told import OFF, ON, READERS, changes
from hot_anvil.core.flags.words import level_of, parted

GNU = """The following options control optimizations:
  -O<number>                  \t\t
  -ffinite-loops              \t\t[enabled]
  -fexcess-precision=[fast|standard|16] \t[default]
  -fvect-cost-model=[unlimited|dynamic|cheap|very-cheap] \tvery-cheap
  -falign-loops=              \t\t
  -ffold-simple-inlines       \t\t[available in C++, ObjC++]
  -mno-sse4                   \t\t[disabled]
  -msse4.1                    \t\t[disabled]
  -mtune=                     \t\tgeneric
  --param=early-inlining-insns= \t6
"""


def told(text: str) -> dict[str, str]:
    return READERS["gnu"]([text])


def test_gcc_tells_switches_values_and_nothing_else() -> None:
    assert told(GNU) == {
        "-ffinite-loops": ON, "-fvect-cost-model=": "very-cheap", "-msse4.1": OFF,
        "-mtune=": "generic", "--param=early-inlining-insns=": "6",
    }  # fmt: skip


def test_what_differs_is_a_flag_and_the_flag_that_takes_it_back() -> None:
    other = (
        GNU.replace("very-cheap\n", "dynamic\n").replace("[enabled]", "[disabled]")
        .replace("-msse4.1                    \t\t[disabled]", "-msse4.1 \t[enabled]")
        .replace("generic", "skylake")
    )  # fmt: skip
    found = {change.add: change for change in changes(told(GNU), told(other))}
    assert set(found) == {
        ("-fno-finite-loops",), ("-fvect-cost-model=dynamic",), ("-msse4.1",), ("-mtune=skylake",),
    }  # fmt: skip
    assert found["-fno-finite-loops",].undo == ("-ffinite-loops",)
    assert found["-fvect-cost-model=dynamic",].undo == ("-fvect-cost-model=very-cheap",)
    assert found["-msse4.1",].undo == ("-mno-sse4.1",)
    assert found["-mtune=skylake",] == Change(TUNING, ("-mtune=skylake",), ("-mtune=generic",))
    assert not list(changes(told(GNU), told(GNU)))


def test_clang_and_rustc_tell_features() -> None:
    line = ' "/usr/bin/clang" "-cc1" "-fno-signed-zeros" "-target-cpu" "x86-64" "-target-feature"'
    found = READERS["llvm"]([f'{line} "+avx2" "-target-feature" "-xop" "-vectorize-loops"'])
    assert found == {
        "-fsigned-zeros": OFF, "-mtune=": "x86-64", "-mavx2": ON, "-mxop": OFF, "-fvectorize": ON,
    }  # fmt: skip
    assert READERS["rust"](['panic="unwind"\ntarget_feature="avx2"\n']) == {
        "-Ctarget-feature=avx2": ON
    }
    (change,) = changes({}, {"-Ctarget-feature=avx2": ON})
    assert (change.add, change.undo) == (
        ("-Ctarget-feature=+avx2",), ("-Ctarget-feature=-avx2",),
    )  # fmt: skip


def test_words_that_belong_together_are_one_flag() -> None:
    words = ["-O2", "-I", "tables", "-C", "x", "--param", "a=1", "-include", "quay.h", "-O3"]
    assert parted(words, "cc") == (
        ("-O2",), ("-Itables",), ("-C",), ("x",), ("--param=a=1",), ("-include", "quay.h"),
        ("-O3",),
    )  # fmt: skip
    assert level_of(parted(words, "cc")) == ("-O3",)
    assert parted(["-C", "opt-level=3"], "rustc") == (("-Copt-level=3",),)
    assert level_of(parted(["-C", "opt-level=3"], "rustc")) == ("-Copt-level=3",)
