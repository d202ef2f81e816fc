"""Whether reasons and facts agree on any sources: what one says of loops and calls, and the other.

    python benchmarks/agreement.py SOURCE ... [--flags='-I/some/headers'] [--build 'gcc -O1']...

Each source is compared under each two builds that follow one another, and each reason with the
facts of both sides.
Returns 1 if one contradicts the other.
"""

import argparse
import re
import sys
from collections.abc import Iterator, Sequence
from itertools import pairwise
from pathlib import Path
from typing import Any

from hot_anvil.api import open_source
from hot_anvil.errors import AnvilError
from hot_anvil.views.json.diff import diff_document
from hot_anvil.views.json.facts import facts_document

Document = dict[str, Any]


def contradictions(reason: Document, left: Document, right: Document) -> Iterator[str]:
    """Give what the facts of both sides say against a reason."""
    kind, text = reason["kind"], reason["text"]
    loops = [side["loops"] for side in (left, right)]
    if kind == "loop vectorised":
        wide = loops[0] if "no longer" in text else loops[1]
        if "a time" not in text and wide and all(_value(one, "vector") == 1 for one in wide):
            yield "no loop is vectorised"
    if kind == "loop unrolled" and reason["confidence"] == "certain":
        found = re.search(r"(\d+) (?:times|vectors)", text)
        side = loops[0] if "no longer" in text else loops[1]
        counts = {_value(one, "unrolled") for one in side}
        known = [count for count in counts if count]
        if found and known and not any(count % int(found[1]) == 0 for count in known):
            yield f"unrolled {counts}"
    if kind == "call inlined" and text.endswith("is inlined"):
        name = text.removesuffix(" is inlined")
        if name in _called(right) and name not in _called(left):
            yield f"{name} is called"


def _value(loop: Document, name: str) -> Any:
    return loop["facts"].get(name, {}).get("value")


def _called(function: Document) -> Sequence[str]:
    called: Sequence[str] = function["facts"].get("not inlined", {}).get("value", [])
    return called


def against(diff: Document, facts: Document) -> tuple[int, list[str]]:
    """Return how many reasons were compared with facts, and what contradicts one."""
    sides: dict[str, list[Document]] = {}
    for function in facts["functions"]:
        sides.setdefault(function["symbol"], []).append(function)
    count, found = 0, []
    for reason in diff["reasons"]:
        both = sides.get(reason["function"], [])
        if len(both) != 2 or reason["confidence"] == "remark only":
            continue
        count += 1
        said = contradictions(reason, *both)
        found += [f"{reason['function']}: {reason['text']}: but {text}" for text in said]
    return count, found


def main() -> int:
    """Print what contradicts what; return 1 if anything does."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("sources", nargs="+", type=Path)
    parser.add_argument("--build", action="append", default=[])
    parser.add_argument("--flags", default="", help="flags for every build")
    given = parser.parse_args()
    builds = [f"{one} {given.flags}".strip() for one in given.build or ("gcc -O1", "gcc -O3")]
    total, wrong = 0, 0
    for source in given.sources:
        for two in pairwise(builds):
            try:
                count, found = _compared(source, two)
            except AnvilError as error:
                print(f"{source}: {error}", file=sys.stderr)
                continue
            total, wrong = total + count, wrong + len(found)
            print(*(f"{source.name}: {text}" for text in found), sep="\n", end="\n" * bool(found))
    print(f"{total} reasons compared with facts, {wrong} contradictions")
    return 1 if wrong or not total else 0


def _compared(source: Path, builds: tuple[str, str]) -> tuple[int, list[str]]:
    answer = open_source(source, list(builds))
    names = [answer.build(one).name for one in builds]
    diff = diff_document(answer.diff(names[0], names[1]))
    return against(diff, facts_document(answer.facts(names), (), False))


if __name__ == "__main__":
    sys.exit(main())
