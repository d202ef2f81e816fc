"""One remark of a compiler on its own work, whatever form it was written in."""

from collections.abc import Iterable, Mapping
from typing import Literal, NamedTuple

Kind = Literal["done", "missed", "analysis"]
DONE: Kind = "done"
MISSED: Kind = "missed"
ANALYSIS: Kind = "analysis"
KINDS: tuple[Kind, ...] = (DONE, MISSED, ANALYSIS)


class Cause(NamedTuple):
    """Why something was missed, as the compiler says it, and where it says so."""

    file: str
    line: int  # 0: it names no place
    text: str


class Remark(NamedTuple):
    """One remark. ``file`` is "" and ``line`` 0 where the compiler names no place."""

    file: str
    line: int
    column: int
    function: str  # its symbol, "" where the compiler names none
    step: str  # the pass that says so, under the compiler's own name
    kind: Kind
    text: str  # the compiler's own sentence, "" where it gives none
    depth: int = 0  # how many steps of an analysis it lies within
    times: int = 1  # how often the very same one came
    why: tuple[Cause, ...] = ()  # of a missed one

    @property
    def about(self) -> str:
        """What it is about, in our words: one of ``ABOUT``."""
        return about(self.step, self.text)


# What remarks are about -> what that means. The order is that of reports.
ABOUT: Mapping[str, str] = {
    "inlining": "a call replaced by the code of what it calls",
    "vectorising": "several elements at once",
    "unrolling": "several passes of a loop written out",
    "loops": "other changes of loops: split, versioned, deleted, turned into a library call",
    "loads": "loads and stores: reused, moved out of loops, removed",
    "calls": "tail calls, copies of functions for known arguments, indirect calls made direct",
    "spills": "values that found no register",
    "stack": "bytes of the frame",
    "code": "what was emitted: counts of instructions, costs",
    "other": "everything else",
}
UNASKED = ("stack", "code")  # shown only where they are asked for

# Name of a pass -> what it is about. Those of the GNU compilers, then of LLVM.
_STEPS: Mapping[str, str] = {
    **dict.fromkeys(("einline", "inline", "fnsplit"), "inlining"),
    **dict.fromkeys(("vect", "slp", "simduid"), "vectorising"),
    **dict.fromkeys(("cunroll", "cunrolli", "loop2_unroll", "unrolljam"), "unrolling"),
    **dict.fromkeys(
        ("lversion", "ldist", "linterchange", "unswitch", "lsplit", "ch", "ch_vect", "parloops",
         "graphite", "ivcanon", "loop2_doloop", "cddce", "sccp", "loopdone"), "loops",
    ),
    **dict.fromkeys(("pcom", "lim", "pre", "fre", "dse", "store-merging", "sra", "esra"), "loads"),
    **dict.fromkeys(("tailc", "tailr", "cp", "devirt", "icf", "pure-const", "modref"), "calls"),
    **dict.fromkeys(("ira", "reload", "lra"), "spills"),
    **dict.fromkeys(("always-inline", "partial-inlining", "hotcoldsplit"), "inlining"),
    **dict.fromkeys(("loop-vectorize", "slp-vectorizer", "transform-warning"), "vectorising"),
    **dict.fromkeys(("loop-unroll", "loop-unroll-full", "loop-unroll-and-jam"), "unrolling"),
    **dict.fromkeys(("gvn", "licm", "memcpyopt", "loop-load-elim", "memory-op-opt"), "loads"),
    **dict.fromkeys(
        ("tailcallelim", "wholeprogramdevirt", "tailcall", "argument-promotion",
         "function-specialization", "argpromotion"), "calls",
    ),
    **dict.fromkeys(("prologepilog", "stack-frame-layout", "stack-size"), "stack"),
    **dict.fromkeys(("asm-printer", "size-info", "TTI", "annotation-remarks"), "code"),
}  # fmt: skip


def about(step: str, text: str) -> str:
    """Return what a remark of a pass is about: one of ``ABOUT``."""
    if step == "regalloc":  # it counts copies between registers too
        return "spills" if "spill" in text or "reload" in text else "code"
    base = step.rstrip("0123456789")
    known = _STEPS.get(step) or _STEPS.get(base)
    if known:
        return known
    return "loops" if step.startswith("loop") else "other"


def without_repeats(remarks: Iterable[Remark]) -> tuple[Remark, ...]:
    """Return the remarks with each of the very same ones once, counted, in their order."""
    counts: dict[Remark, int] = {}
    for remark in remarks:
        counts[remark] = counts.get(remark, 0) + 1
    return tuple(remark._replace(times=count) for remark, count in counts.items())


def totals(remarks: Iterable[Remark]) -> dict[Kind, int]:
    """Return how many remarks there are of each kind, repeats counted."""
    out = dict.fromkeys(KINDS, 0)
    for remark in remarks:
        out[remark.kind] += remark.times
    return out
