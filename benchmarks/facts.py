"""How often facts are right, on functions decided by hand; prints precision and recall per fact.

What counts is what is said or true of a function beyond nothing: that there
is no loop, no call, no frame counts only where one side says otherwise.

With ``--write`` the table in docs/facts.md is made anew.

    python benchmarks/facts.py [--write] [TRUTH.toml]
"""

import sys
import tomllib
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from hot_anvil.api import open_source
from hot_anvil.core.facts.records import Fact, FunctionFacts
from hot_anvil.usecases.inspection import facts_of_build

ROOT = Path(__file__).parent.parent
DOCS = ROOT / "docs" / "facts.md"
TRUTH = ROOT / "tests" / "corpus" / "facts.toml"
# What holds where a case does not say otherwise, of the facts that are judged.
FUNCTION = {
    "loops": 0, "calls": [], "frame": 0, "saved": [], "slots": 0, "divisions": 0, "atomics": 0,
    "inline assembly": 0, "jump tables": 0, "unresolved": 0, "hardening": [], "constant": None,
    "empty": False, "recursion": None, "heap": [], "inlined": [], "not inlined": [],
    "instructions": None, "bytes": None,
}  # fmt: skip
LOOP = {
    "lines": "", "per pass": 0, "other paths": "", "vector": 1, "unrolled": 1,
    "bytes per pass": None, "test": "at its end", "loads": 0, "stores": 0, "updates": 0,
    "stack": 0, "divisions": 0, "branches": 1, "calls": [], "only time": False,
}  # fmt: skip
# A case may leave these unsaid: they are judged only where it says them.
OPEN = {"inlined", "not inlined", "instructions", "bytes"}


def main(words: Sequence[str]) -> int:
    """Judge every case; return 1 if a fact's figures are below 0.95."""
    paths = [Path(word) for word in words if word != "--write"]
    path = paths[0] if paths else TRUTH
    cases = tomllib.loads(path.read_text())["case"]
    tallies, skipped = judge(cases, path.parent, print)
    print(f"{len(cases) - skipped} functions, {skipped} without their compiler here\n")
    print(table(tallies))
    if "--write" in words:
        text = DOCS.read_text()
        head, rest = text.split("<!-- table -->\n")[0], text.split("<!-- end -->")[1]
        said = f"{len(cases) - skipped} functions.\n\n{table(tallies)}"
        DOCS.write_text(f"{head}<!-- table -->\n{said}\n<!-- end -->{rest}")
    return 0 if all(min(figures(tally)) >= 0.95 for tally in tallies.values()) else 1


Tallies = dict[str, list[int]]


def judge(
    cases: Sequence[dict[str, Any]], folder: Path, say: Callable[[str], Any]
) -> tuple[Tallies, int]:
    """Return for each fact [right, wrong, missed], and how many cases had no compiler."""
    tallies: Tallies = defaultdict(lambda: [0, 0, 0])
    skipped = 0
    known: dict[tuple[str, str], Mapping[str, FunctionFacts] | None] = {}
    for case in cases:
        key = case["source"], case["build"]
        if key not in known:
            known[key] = _facts_under(folder / key[0], key[1])
        functions = known[key]
        if functions is None:
            skipped += 1
            continue
        for name, true, said in _pairs(case, functions[case["function"]]):
            wrong = _count(tallies[name], name, true, said)
            if wrong:
                say(f"{case['source']} {case['function']} {case['build']}: {wrong}")
    return dict(tallies), skipped


def _facts_under(source: Path, build: str) -> Mapping[str, FunctionFacts] | None:
    try:
        anvil = open_source(source, [build])
        (built,) = anvil.compile()
        found = facts_of_build(anvil.workspace, built, anvil.code(built, chains=True))
    except Exception as error:
        print(f"{source} {build}: {error}", file=sys.stderr)
        return None
    return {function.title.partition("(")[0]: function for function in found}


def _pairs(
    case: Mapping[str, Any], function: FunctionFacts
) -> Iterator[tuple[str, tuple[Any, Any], Any]]:
    """Give (fact, (what is true, what nothing is), what is said) for all that is judged."""
    said = {fact.name: _plain(fact) for fact in function.facts}
    truth = {"loops": len(case.get("loops", ())), **case.get("facts", {})}
    for name, nothing in FUNCTION.items():
        if name not in OPEN or name in truth:
            yield name, (truth.get(name, nothing), nothing), said.get(name, nothing)
    loops = sorted(function.loops, key=lambda loop: loop.header)
    for number, true in enumerate(case.get("loops", ())):
        loop = loops[number] if number < len(loops) else None
        own = {fact.name: _plain(fact) for fact in loop.facts} if loop else {}
        own["lines"] = loop.lines if loop else ""
        for name, nothing in LOOP.items():
            yield f"loop: {name}", (true.get(name, nothing), nothing), own.get(name, nothing)


def _plain(fact: Fact) -> Any:
    if isinstance(fact.value, tuple):
        return list(fact.value)
    return fact.words if fact.name == "vector" and fact.value is None else fact.value


def _count(tally: list[int], name: str, true: tuple[Any, Any], said: Any) -> str:
    """Add to a tally; return what is wrong, "" for nothing."""
    truth, nothing = true
    if name.endswith("unrolled") and said is None:
        said = nothing if truth == nothing else None  # says that it does not know
    if said == truth:
        tally[0] += truth != nothing
        return ""
    tally[1] += said not in (nothing, None)
    tally[2] += truth != nothing
    return f"{name}: said {said!r}, true is {truth!r}"


def figures(tally: Sequence[int]) -> tuple[float, float]:
    """Return (precision, recall); 1 where there was nothing to be right or wrong about."""
    right, wrong, missed = tally
    return right / (right + wrong or 1) if right or wrong else 1.0, (
        right / (right + missed) if right or missed else 1.0
    )


def table(tallies: Tallies) -> str:
    """Return a Markdown table of right, wrong, missed, precision and recall for each fact."""
    rows = [
        "| fact | right | wrong | missed | precision | recall |",
        "|---|---:|---:|---:|---:|---:|",
    ]
    for name, tally in tallies.items():
        if any(tally):
            precision, recall = figures(tally)
            counts = " | ".join(map(str, tally))
            rows.append(f"| {name} | {counts} | {precision:.3f} | {recall:.3f} |")
    total = [sum(tally[k] for tally in tallies.values()) for k in range(3)]
    precision, recall = figures(total)
    counts = " | ".join(map(str, total))
    return "\n".join([*rows, f"| **all** | {counts} | {precision:.3f} | {recall:.3f} |"])


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
