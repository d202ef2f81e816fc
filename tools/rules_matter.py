"""Take each rule out in turn and see whether the decided cases notice.

    python tools/rules_matter.py [NAME ...]

A rule that no case notices is a rule that no test tests. Returns 1 if there is one.
"""

import sys
import tomllib
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "benchmarks"))

import facts as facts_of_cases  # noqa: E402
import reasons as reasons_of_cases  # noqa: E402

from hot_anvil.core.facts import gather  # noqa: E402
from hot_anvil.core.reasons import explain, plain, values  # noqa: E402
from hot_anvil.core.reasons.context import Rule  # noqa: E402
from hot_anvil.system.store.store import Store  # noqa: E402

# Where rules are listed: the module's variables that ``explain`` reads.
LISTS: tuple[tuple[Any, str], ...] = (
    (explain, "RULES"),
    (values, "LAST"),
    (plain, "LAST"),
    (plain, "BESIDE_LOOPS"),
)
# What makes facts: generators, and two functions that return one thing.
FACT_RULES = (
    "size_facts", "outcome_facts", "call_facts", "recursion_fact", "frame_facts", "guard_facts",
    "loop_facts",
)  # fmt: skip


def main() -> int:
    """Print every rule with how many cases notice that it is gone."""
    unnoticed = 0
    for name, without in [*_reason_rules(), *_fact_rules()]:
        if len(sys.argv) > 1 and not any(word in name for word in sys.argv[1:]):
            continue
        with without():
            noticed = len(_complaints(name.startswith("fact")))
        unnoticed += not noticed
        print(f"{noticed:5} {name}", flush=True)
    print(f"{unnoticed} rules that no case notices")
    return 1 if unnoticed else 0


def _complaints(of_facts: bool) -> list[str]:
    """Return what the decided cases say is wrong."""
    said: list[str] = []
    if of_facts:
        facts_of_cases.judge(_cases("facts.toml"), reasons_of_cases.CORPUS, said.append)
        return said
    for name in (path.name for path in reasons_of_cases.TRUTH):
        if name not in _compiled:
            _compiled[name] = reasons_of_cases.compile_all(_cases(name), reasons_of_cases.CORPUS)
        reasons_of_cases.judge(_cases(name), reasons_of_cases.CORPUS, said.append, _compiled[name])
    return [text for text in said if text not in KNOWN]


_compiled: dict[str, reasons_of_cases.Compiled] = {}
KNOWN = frozenset(reasons_of_cases.KNOWN_FAULTS)


def _cases(name: str) -> list[dict[str, Any]]:
    cases: list[dict[str, Any]] = tomllib.loads((reasons_of_cases.CORPUS / name).read_text())[
        "case"
    ]
    return cases


Without = Callable[[], Any]


def _reason_rules() -> Iterator[tuple[str, Without]]:
    for module, name in LISTS:
        for rule in getattr(module, name):
            yield (
                f"reason {rule.__module__.rpartition('.')[2]}.{rule.__name__}",
                partial(_without_rule, module, name, rule),
            )


@contextmanager
def _without_rule(module: Any, name: str, rule: Rule) -> Iterator[None]:
    whole: Sequence[Rule] = getattr(module, name)
    setattr(module, name, tuple(r for r in whole if r is not rule))
    try:
        yield
    finally:
        setattr(module, name, whole)


def _fact_rules() -> Iterator[tuple[str, Without]]:
    for name in FACT_RULES:
        yield f"fact {name}", partial(_without_facts, name)


@contextmanager
def _without_facts(name: str) -> Iterator[None]:
    whole, derive = getattr(gather, name), Store.derive
    setattr(gather, name, lambda *given: None if name == "recursion_fact" else ())
    with TemporaryDirectory() as work:
        # What the store has was found with all rules.
        setattr(Store, "derive", lambda self, kept_as, make: make(Path(work)))  # noqa: B010
        try:
            yield
        finally:
            setattr(gather, name, whole)
            setattr(Store, "derive", derive)  # noqa: B010


if __name__ == "__main__":
    sys.exit(main())
