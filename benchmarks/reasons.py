"""How often the reasons for differences are right, on cases decided by hand.

Prints each disagreement, precision and recall, and the table for each reason:
cases in which it was said rightly, said wrongly, and missed. With ``--write``
the table in docs/reasons.md is made anew.

    python benchmarks/reasons.py [--write] [TRUTH.toml ...]
"""

import sys
import tomllib
from collections import defaultdict
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from hot_anvil.api import open_source
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.code.records import Code, only_functions
from hot_anvil.core.reasons.comparing import compare_codes
from hot_anvil.core.reasons.plain import SMALL

ROOT = Path(__file__).parent.parent
CORPUS = ROOT / "tests" / "corpus"
TRUTH = sorted(CORPUS.glob("truth*.toml"))
# What is known to come out wrong; a case is not changed to hide it.
KNOWN_FAULTS = (
    "board.c next: arm-none-eabi-gcc -mcpu=cortex-m4 -mthumb -O0 to arm-none-eabi-gcc "
    "-mcpu=cortex-m4 -mthumb -O2: wrong ['dead code gone'], missed []",
)
DOCS = ROOT / "docs" / "reasons.md"


def main(words: Sequence[str]) -> int:
    """Judge every case; return 1 if the figures are below what is asked for."""
    paths = [Path(word) for word in words if word != "--write"] or TRUTH
    cases = [case for path in paths for case in tomllib.loads(path.read_text())["case"]]
    tallies, skipped = judge(cases, paths[0].parent, print)
    right, wrong, missed = (sum(tally[k] for tally in tallies.values()) for k in range(3))
    precision, recall = right / max(right + wrong, 1), right / max(right + missed, 1)
    print(f"{len(cases) - skipped} cases, {skipped} without their compiler here")
    print(f"precision {precision:.3f}, recall {recall:.3f}")
    print(table(tallies))
    if "--write" in words:
        write(
            table(tallies),
            f"Precision {precision:.3f}, recall {recall:.3f}, over {len(cases)} cases.",
        )
    return 0 if precision >= 0.95 and recall >= 0.85 else 1


def judge(
    cases: Sequence[dict[str, Any]], folder: Path, say: Any, compiled: "Compiled | None" = None
) -> tuple[dict[str, list[int]], int]:
    """Return for each reason [right, wrong, missed], and how many cases had no compiler.

    ``compiled`` is what ``compile_all`` made of the cases, if it ran before.
    """
    tallies: dict[str, list[int]] = defaultdict(lambda: [0, 0, 0])
    skipped = 0
    compiled = compiled or compile_all(cases, folder)
    for case in cases:
        sides = [compiled[case["source"], case[side]] for side in ("left", "right")]
        if any(side is None for side in sides):
            skipped += 1
            continue
        found = reasons_of(case, *(side for side in sides if side))
        expected, also = set(case["reasons"]), set(case.get("also", ()))
        expected |= set(case.get("small", ()))
        if "small" not in case:  # small ones count only where a case decides them
            found -= SMALL
        for kind in found & expected:
            tallies[kind][0] += 1
        for kind in found - expected - also:
            tallies[kind][1] += 1
        for kind in expected - found:
            tallies[kind][2] += 1
        if found - (also - expected) != expected:
            name = f"{case['source']} {case['function']}: {case['left']} to {case['right']}"
            say(
                f"{name}: wrong {sorted(found - expected - also)}, "
                f"missed {sorted(expected - found)}"
            )
    return dict(tallies), skipped


Side = tuple[Built, Code]
Compiled = dict[tuple[str, str], Side | None]  # source and build -> what it made


def compile_all(cases: Sequence[dict[str, Any]], folder: Path) -> Compiled:
    """Compile each source under all builds that cases name: source and build -> what it made."""
    wanted: dict[str, dict[str, None]] = defaultdict(dict)
    for case in cases:
        wanted[case["source"]].update({case["left"]: None, case["right"]: None})
    out: Compiled = {}
    for source, builds in wanted.items():
        for build in builds:
            try:
                anvil = open_source(folder / source, [build])
                (built,) = anvil.compile()
            except Exception as error:
                print(f"{source} {build}: {error}", file=sys.stderr)
                out[source, build] = None
                continue
            usable = built.status == COMPILED
            if not usable:
                print(f"{source} {build}: {built.why}", file=sys.stderr)
            out[source, build] = (built, anvil.code(built)) if usable else None
    return out


def reasons_of(case: dict[str, Any], left: Side, right: Side) -> set[str]:
    """Return the kinds of reasons given for the case's function."""
    name, other = case["function"], case.get("other")
    same = {name: other} if other else {}
    codes = left[1], right[1]
    if other:
        codes = only_functions(left[1], {name}), only_functions(right[1], {other})
    flags = left[0].build.flags, right[0].build.flags
    explained = compare_codes(*codes, {}, same_function=same, flags=flags)
    wanted = other or name
    return {r.kind for r in explained.reasons if r.function == wanted}


def table(tallies: dict[str, list[int]]) -> str:
    """Return a Markdown table of right, wrong and missed for each reason."""
    rows = ["| reason | right | wrong | missed |", "|---|---:|---:|---:|"]
    rows += [f"| {kind} | {a} | {b} | {c} |" for kind, (a, b, c) in sorted(tallies.items())]
    total = [sum(tally[k] for tally in tallies.values()) for k in range(3)]
    return "\n".join([*rows, f"| **all** | {total[0]} | {total[1]} | {total[2]} |"])


def write(rows: str, figures: str) -> None:
    """Put the table between its marks in the docs."""
    text = DOCS.read_text()
    head, rest = text.split("<!-- table -->\n")[0], text.split("<!-- end -->")[1]
    DOCS.write_text(f"{head}<!-- table -->\n{figures}\n\n{rows}\n<!-- end -->{rest}")


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
