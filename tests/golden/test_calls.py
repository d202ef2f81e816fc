"""What C++ lines call: the same as a program of them does, and what each build left of it."""

import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import document, hot_anvil, refused, write_bench
from hot_anvil.core.stages.called import kind_of
from hot_anvil.core.stages.remaining import plain_name
from hot_anvil.views.text.calls import without_arguments

NEED = Callable[..., None]
SAYS = ("make", "copy", "move", "end", "assign", "take", "open", "shut", "read", "add")
HEAD = """
extern "C" {
%s
}
struct Mark {
  int level;
  explicit Mark(int at) : level(at) { said_make(); }
  Mark(const Mark &o) : level(o.level) { said_copy(); }
  Mark(Mark &&o) : level(o.level) { said_move(); }
  Mark &operator=(const Mark &o) { level = o.level; said_assign(); return *this; }
  Mark &operator=(Mark &&o) { level = o.level; said_take(); return *this; }
  ~Mark() { said_end(); }
  operator int() const { said_read(); return level; }
};
Mark operator+(const Mark &a, const Mark &b) { said_add(); return Mark(a.level + b.level); }
Mark &&given(Mark &m) { return static_cast<Mark &&>(m); }
"""
SOURCES = {
    "named": "Mark named(int n) { Mark m(n); m.level++; return m; }\n"
    "int run(int n) { Mark a = named(n); return a.level; }",
    "fresh": "Mark fresh(int n) { return Mark(n); }\n"
    "int run(int n) { Mark a = fresh(n);\n Mark b(fresh(n + 1));\n return a.level + b.level; }",
    "by_value": "int used(Mark m) { return m.level; }\n"
    "int run(int n) { Mark a(n);\n int x = used(a);\n x += used(given(a));\n"
    " return x + used(Mark(n)); }",
    "members": "struct Pair { Mark low, high; Pair(int n) : low(n), high(n + 1) { said_open(); }\n"
    " ~Pair() { said_shut(); } };\n"
    "int run(int n) { Pair p(n);\n Pair q = p;\n return q.low.level; }",
    "bases": "struct Gauge : Mark { Mark last; Gauge(int n) : Mark(n), last(n) { said_open(); }\n"
    " ~Gauge() { said_shut(); } };\n"
    "int run(int n) { Gauge g(n);\n Gauge h(static_cast<Gauge &&>(g));\n return h.level; }",
    "conversions": "int run(int n) { Mark a(n);\n int x = a;\n x += a + 2;\n return x + int(a); }",
    "operators": "int run(int n) { Mark a(n), b(n);\n Mark c = a + b + a;\n c = a;\n"
    " c = a + b;\n c = given(b);\n return c.level; }",
    "lifetime": "Mark fresh(int n) { return Mark(n); }\n"
    "int run(int n) { const Mark &held = fresh(n);\n Mark own = held;\n"
    " { Mark inner(own); said_read(); }\n fresh(2);\n return held.level; }",
}
DRIVER = "#include <stdio.h>\n%s\nint main(void) { return run(3) < 0; }\n"


@pytest.fixture(scope="module")
def sources(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("calls")
    said = "\n".join(f"void said_{name}(void);" for name in SAYS)
    for name, text in SOURCES.items():
        whole = HEAD % said + text.replace("int run(", 'extern "C" int run(')
        (folder / f"{name}.cpp").write_text(whole + "\n")
    own = "\n".join(f'void said_{name}(void) {{ puts("{name}"); }}' for name in SAYS)
    (folder / "driver.c").write_text(DRIVER % (own + "\nint run(int);"))
    return folder


def traced(folder: Path, source: str, compiler: str, level: str) -> list[str]:
    goal = folder / f"{source}{level}"
    objects = [str(folder / f"{source}.cpp"), "-x", "c++", str(folder / f"{source}.cpp")][:1]
    main = folder / f"driver{level}.o"
    subprocess.run(["gcc-12", "-c", folder / "driver.c", "-o", main], check=True)
    subprocess.run([compiler, level, *objects, main, "-o", goal], check=True)
    return subprocess.run([goal], capture_output=True, text=True, check=True).stdout.split()


def said(functions: dict[str, Any], symbol: str) -> Iterator[str]:
    """Give what a function says with all that it calls, in order, elided calls left out."""
    for call in functions[symbol]["calls"]:
        callee = call["symbol"]
        if callee.startswith("said_"):
            yield callee.removeprefix("said_")
        elif not call["elided"] and _own(functions, callee):
            yield from said(functions, _own(functions, callee))


def _own(functions: dict[str, Any], symbol: str) -> str:
    """A constructor of a whole object does what that of a base does, and has its code."""
    other = symbol.replace("C1E", "C2E").replace("D1E", "D2E")
    return symbol if symbol in functions else other if other in functions else ""


@pytest.mark.parametrize("source", SOURCES)
@pytest.mark.parametrize("build", ["gcc-12 -O0", "clang-16 -O2"])
def test_the_calls_are_those_that_a_traced_program_makes(
    source: str, build: str, sources: Path, need: NEED
) -> None:
    need("g++-12" if "gcc" in build else "clang++-16", "clang++-16")
    compiler, level = build.replace("gcc", "g++").replace("clang", "clang++").split()
    found = document("calls", sources / f"{source}.cpp", "--build", build)
    assert found["read"][0]["form"] == "LLVM IR"
    functions = {one["symbol"]: one for one in found["functions"]}
    assert list(said(functions, "run")) == traced(sources, source, compiler, level)


@pytest.mark.parametrize("source", SOURCES)
def test_copies_that_the_language_lets_go_are_those_of_a_program_that_keeps_them(
    source: str, sources: Path, need: NEED
) -> None:
    """The same program under C++14 without elision makes exactly the copies called elided."""
    need("g++-12", "clang++-16")
    found = document("calls", sources / f"{source}.cpp", "--build", "gcc-12 -O2")
    functions = {one["symbol"]: one for one in found["functions"]}

    def elided(symbol: str) -> int:
        total = 0
        for call in functions[symbol]["calls"]:
            if call["elided"]:
                total += 1
                assert call["kind"] == "move constructor"
            elif _own(functions, call["symbol"]):
                total += elided(_own(functions, call["symbol"]))
        return total

    now = traced(sources, source, "g++-12", "-O0")
    flags = ["-std=c++14", "-fno-elide-constructors"]
    goal = sources / f"{source}.full"
    subprocess.run(
        ["clang++-16", *flags, sources / f"{source}.cpp", sources / "driver-O0.o", "-o", goal],
        check=True,
    )
    full = subprocess.run([goal], capture_output=True, text=True, check=True).stdout.split()
    assert full.count("move") - now.count("move") == elided("run")
    allowed = [c for f in found["functions"] for c in f["calls"] if c["elided"] == "allowed"]
    assert bool(allowed) == (source == "named")  # a named result; the others must go since C++17


def test_what_is_left_is_computed_for_each_build(sources: Path, need: NEED) -> None:
    need("g++-12", "clang++-16")
    builds = ("gcc-12 -O0", "gcc-12 -O2", "clang-16 -O2")
    words = [w for build in builds for w in ("--build", build)]
    found = document("calls", sources / "operators.cpp", *words, "--entry", "run")
    (run,) = found["functions"]
    fates = {
        build: {c["callee"]: c["left"][build]["fate"] for c in run["calls"] if c["left"]}
        for build in builds
    }
    assert set(fates["gcc-12 -O0"].values()) == {"called"}
    for build in builds[1:]:
        assert fates[build]["Mark::operator=(Mark const&)"] in ("inlined", "some inlined")
        assert "nothing left" in {*fates[build].values()} or fates[build]["given(Mark&)"]
    nothing = fates["gcc-12 -O2"]["given(Mark&)"]
    assert nothing in ("nothing left", "inlined")
    text = hot_anvil("calls", sources / "operators.cpp", *words, COLUMNS="80").stdout
    assert all(len(line) <= 80 for line in text.split("\n"))
    rows = hot_anvil("calls", sources / "named.cpp", *words, "--format", "csv").stdout
    assert "move constructor,allowed" in rows


def test_a_template_of_the_library_says_what_it_became(tmp_path: Path, need: NEED) -> None:
    need("g++-12", "clang++-16")
    source = tmp_path / "many.cpp"
    source.write_text(
        "#include <iostream>\n#include <vector>\n"
        "int many(int n) {\n  std::vector<int> v;\n"
        "  for (int i = 0; i < n; i++) v.push_back(i);\n"
        "  std::cout << n;\n  return v.size();\n}\n"
    )
    build = "gcc-12 -O2"
    (many,) = document("calls", source, "--build", build, "--entry", "many")["functions"]
    calls = {without_arguments(c["callee"]): c for c in many["calls"]}
    pushed = calls["std::vector<..>::push_back(int const&)"]
    assert pushed["in_loop"] and pushed["left"][build]["fate"] == "inlined"
    assert pushed["left"][build]["instructions"] > 3
    printed = next(c for c in many["calls"] if "operator<<" in c["callee"])
    assert printed["left"][build]["fate"] == "called" and printed["kind"] == "operator"
    into = hot_anvil("listing", source, build, "--build", build, "--into", printed["callee"])
    assert "libstdc++" in into.stdout, into.stderr


def test_only_cpp_has_calls_of_this_kind(tmp_path: Path, need: NEED) -> None:
    need("gcc-12")
    write_bench(tmp_path, '[grid]\ntoolchains = ["gcc-12"]\n', plain="int f(void) { return 1; }\n")
    assert "no source asked for is C++" in refused("calls", tmp_path / "plain.c")
    source = tmp_path / "one.cpp"
    source.write_text("int g();\nint f() { return g(); }\n")
    assert "no such function" in refused("calls", source, "--entry", "ff")
    source.write_text("int f() { return nothing; }\n")
    assert "nothing" in refused("calls", source)


def test_names_are_taken_apart() -> None:
    kinds = {
        "Mark::Mark(int)": "constructor",
        "Mark::Mark(Mark const&)": "copy constructor",
        "quay::Mark::Mark(quay::Mark&&)": "move constructor",
        "Box<int>::Box(Box<int> const&)": "copy constructor",
        "Box<int>::Box(Mark const&)": "constructor",
        "Mark::~Mark()": "destructor",
        "Mark::operator int() const": "conversion",
        "operator new(unsigned long)": "operator",
        "std::ostream::operator<<(int)": "operator",
        "Mark::operator()(int) const": "operator",
        "reading(Mark const&)": "function",
    }
    assert {title: kind_of(title) for title in kinds} == kinds
    plain = {"std::vector<int, std::allocator<int> >::push_back(int&&)": "push_back",
             "Mark::operator()(int)": "operator()", "quay::Mark::~Mark()": "~Mark"}  # fmt: skip
    assert {title: plain_name(title) for title in plain} == plain
    long = "std::map<int, std::vector<Mark> >::operator<(std::pair<int, Mark> const&)"
    assert without_arguments(long) == "std::map<..>::operator<(std::pair<..> const&)"


def test_a_part_that_was_put_elsewhere_still_belongs_to_its_function(
    tmp_path: Path, need: NEED
) -> None:
    need("g++-12", "clang++-16", "nm")
    source = tmp_path / "part.cpp"
    source.write_text(
        'extern "C" int big(int);\nint once(int n) {\n  if (n < 0) return 0;\n'
        "  int s = 0;\n  for (int i = 0; i < n; i++) s += big(i) * big(s);\n"
        "  return s + big(n) + big(s);\n}\n"
        "int a(int n) { return once(n) + 1; }\nint b(int n) { return once(n) + 2; }\n"
    )
    goal = tmp_path / "part.o"
    subprocess.run(["g++-12", "-O2", "-c", source, "-o", goal], check=True)
    names = subprocess.run(["nm", goal], capture_output=True, text=True, check=True).stdout
    assert "_Z4oncei.part.0" in names  # where gcc put the loop and its calls
    found = document("calls", source, "--build", "gcc-12 -O2", "--entry", "once")
    fates = [c["left"]["gcc-12 -O2"]["fate"] for c in found["functions"][0]["calls"]]
    assert fates == ["called"] * 4
    whole = document("stages", source, "clang-16 -O2", "--build", "clang-16 -O2",
                     "--entry", "once", "--show", "end")["functions"][0]  # fmt: skip
    assert whole["same_code"] is None  # this form is made without code, so nothing is proved
