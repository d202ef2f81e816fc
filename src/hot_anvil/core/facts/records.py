"""Facts as values, and the name and meaning of each."""

from collections.abc import Iterable
from typing import Literal, NamedTuple

ALL = (-1,)  # places that stand for every instruction of the function
Value = int | str | bool | tuple[str, ...] | None  # None: not known


class Fact(NamedTuple):
    """One statement about a function's code or one of its loops."""

    name: str
    value: Value
    places: tuple[int, ...] = ()  # instructions of the function that show it, or ALL
    text: str = ""  # as a reader says it, where the value alone says too little
    note: str = ""  # how it is known, or why it is not

    @property
    def known(self) -> bool:
        """False where nothing can be said of it."""
        return self.value is not None or bool(self.text)

    @property
    def words(self) -> str:
        """The fact as a reader says it."""
        if self.text:
            return self.text
        if self.value is None:
            return "not known"
        if isinstance(self.value, bool):
            return "yes" if self.value else "no"
        if isinstance(self.value, tuple):
            return ", ".join(self.value) or "-"
        return str(self.value) if self.value != "" else "-"


class LoopFacts(NamedTuple):
    """One loop of a function's code."""

    number: int  # from 1, outer loops before those inside them
    depth: int  # 1 for an outermost one
    inside: int  # number of the loop that it stands in, 0 for none
    file: str
    first: int  # source lines that its own code comes from, 0 when not known
    last: int
    header: int  # instruction that it begins with
    part: str  # MAIN, or what it does of a source loop that became several
    facts: tuple[Fact, ...]

    @property
    def lines(self) -> str:
        """Its source lines as text."""
        if not self.first:
            return "?"
        return str(self.first) if self.first == self.last else f"{self.first}-{self.last}"


class FunctionFacts(NamedTuple):
    """All facts of one function of one build."""

    name: str  # symbol
    title: str  # as the source writes it
    file: str
    line: int  # where its source begins, 0 when not known
    facts: tuple[Fact, ...]
    loops: tuple[LoopFacts, ...]


Part = Literal["main", "rest"]
MAIN: Part = "main"
REST: Part = "rest"  # parts of a source loop

# Name -> what it says, for functions and then for loops, in the order they are shown.
FUNCTION_FACTS = {
    "instructions": "instructions, cold parts included",
    "bytes": "bytes of code, cold parts and padding inside included",
    "empty": "whether it does nothing but return",
    "constant": "the constant that it returns and is all it does",
    "loops": "natural loops in the code",
    "calls": "what it calls, in order: tail calls as 'f (tail)', through a pointer as '*'",
    "inlined": "functions whose code stands in it: from which line, and how many instructions",
    "not inlined": "functions that it calls although their code is in the same source",
    "recursion": "whether it calls itself, or a call of itself in the source became a loop",
    "section": "the section of its code, where the source or a flag says which",
    "frame": "bytes of stack that it takes, saved registers included",
    "saved": "registers that it saves and restores",
    "slots": "distinct places of its stack frame that its code reads or writes",
    "divisions": "divisions, calls of the compiler's own division included",
    "hardening": "guards that the compiler added",
    "checks": "paths that end the program when a check fails",
    "atomics": "atomic accesses and fences",
    "heap": "calls that take or give back memory of the heap",
    "counting": "calls that count references",
    "inline assembly": "instructions of inline assembly",
    "jump tables": "indirect jumps through tables",
    "unresolved": "indirect jumps of which the goals are not known: loops may be missed",
    "padding": "bytes that only fill space (instructions, where sizes are not known)",
}
# Of one call, where it runs on another machine that counts: only what a bench expects.
CALL_FACTS = {
    "cycles": "cycles of a call on a chip's simulator, with each input of the sweep",
    "executed": "instructions that a warm call executes on another machine",
    "deepest stack": "bytes of stack of a call on a chip's simulator, at the deepest",
}
LOOP_FACTS = {
    "per pass": "instructions of one pass on its main path, inner loops left out",
    "cycles": "fewest and most cycles of a pass, where instructions have fixed ones; as above",
    "other paths": "fewest and most instructions of a pass, where there are several paths",
    "vector": "lanes of its packed calculations; 1 for a scalar loop",
    "unrolled": "how many elements or vectors of a kind one pass handles, by what it accesses",
    "bytes per pass": "bytes that it goes further in memory in one pass",
    "test": "where it is left: at its start, at its end, in the middle, nowhere",
    "calls": "what it calls in a pass",
    "loads": "loads in a pass, stack slots and constants left out",
    "stores": "stores in a pass, stack slots left out",
    "updates": "read-modify-writes of memory in a pass",
    "stack": "loads and stores of stack slots in a pass: spilled values, or variables at -O0",
    "divisions": "divisions in a pass",
    "branches": "branches and jumps in a pass",
    "only time": "whether nothing but time passes in it",
    "rest": "other loops of the code that do the rest of this source loop",
}


def find(facts: Iterable[Fact], name: str) -> Fact | None:
    """Return the fact of a name, None where it was not made."""
    return next((fact for fact in facts if fact.name == name), None)
