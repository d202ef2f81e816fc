"""What a bench expects of facts, as a record."""

from collections.abc import Mapping
from typing import NamedTuple

from hot_anvil.core.facts.records import CALL_FACTS, FUNCTION_FACTS, LOOP_FACTS
from hot_anvil.core.names import did_you_mean, listed

Wanted = bool | int | str | tuple[str, ...]


class Expectation(NamedTuple):
    """Facts that must hold for one function, in some builds."""

    entry: str
    builds: tuple[str, ...]  # patterns of builds or flag sets; none: every build
    loop: int | str | None  # a source line of it, "any" or "all"; None: about the function
    facts: Mapping[str, Wanted]
    why: str
    place: tuple[str | int, ...]  # its table: keys, and indices in arrays of tables
    line: int = 0  # of the bench's file, once it was looked for; 0 when not known
    at: str = ""  # the inputs of a sweep that facts of calls are about, "" for all

    @property
    def of_calls(self) -> bool:
        """Whether it says something of calls, which have to be run."""
        return self.loop is None and any(name in CALL_FACTS for name in self.facts)


def check_names(expectation: Expectation) -> str:
    """Return what is wrong with the facts that an expectation names, "" if nothing is."""
    of_functions = {**FUNCTION_FACTS, **CALL_FACTS}
    known = of_functions if expectation.loop is None else LOOP_FACTS
    other = LOOP_FACTS if expectation.loop is None else of_functions
    for name in expectation.facts:
        if name in known:
            continue
        if name in other and expectation.loop is None:
            return (
                f"'{name}' is a fact of loops: say of which, by 'loop = LINE' (a source line of "
                "it), 'any' or 'all'"
            )
        if name in other:
            return f"'{name}' is a fact of functions: leave 'loop' out"
        hint = did_you_mean(name, known) or f" Known: {listed(known)}."
        return f"there is no fact '{name}'.{hint.rstrip('.')}"
    return ""
