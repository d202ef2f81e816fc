"""Where the time goes, from looks at the instruction that runs: by function, line, instruction.

A share's error is that of 95 in 100: the larger of what chance leaves open
with this many looks (binomial) and what fresh processes differ by (Student's
t over them). An interrupt is taken when the instruction that the processor waits for has come to
its end, so it is seen at the next one: looks behind an instruction that is known to be slow count
for that one. Single instructions are still blurred, and lines less so.
"""

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from itertools import pairwise
from types import MappingProxyType
from typing import Literal, NamedTuple, TypeVar

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch import semantics_of
from hot_anvil.core.code.records import Code, Instruction
from hot_anvil.core.model.registers import read_and_written

K = TypeVar("K")
Counted = Literal["", "cycles", "instructions"]


class Share(NamedTuple):
    """A share of all looks."""

    samples: int
    share: float
    error: float  # half width of its interval, as a share


class HotInstruction(NamedTuple):
    """One instruction that was seen."""

    function: str
    instruction: Instruction
    share: Share
    times: int | None = None  # that it was executed, where that was counted


class HotLine(NamedTuple):
    """One source line; ("", 0) for code without one."""

    file: str
    line: int
    share: Share
    instructions: tuple[HotInstruction, ...]  # in the order of the code


class Hotspots(NamedTuple):
    """Where one candidate's time goes."""

    candidate: str
    inputs: str
    seconds_per_call: float  # while it was looked at
    samples: int
    processes: int
    functions: tuple[tuple[str, Share], ...]  # the most first; those of libraries by name too
    lines: tuple[HotLine, ...]  # in the order of the source
    elsewhere: tuple[tuple[str, Share], ...]  # in libraries, the most first
    unit: str = "call"  # what the seconds are of: a "call", or a "run" of a whole program
    counts: Counted = ""  # what each sample is, where every one of a call was counted


class Hot(NamedTuple):
    """Where the time of some candidates of a snippet goes, side by side."""

    snippet: str
    candidates: tuple[Hotspots, ...]
    states: Mapping[tuple[str, int], str]  # line -> its state, where two builds are compared
    left_out: tuple[str, ...]  # what was not looked at, and why


class Seen(NamedTuple):
    """The looks of one process."""

    inside: Counter[int]  # address in the program -> looks
    outside: Counter[str]  # library -> looks
    times: Mapping[int, int] = MappingProxyType({})  # address -> executed so often, where counted

    @property
    def total(self) -> int:
        """All looks of the process."""
        return self.inside.total() + self.outside.total()


def make_hotspots(
    candidate: str,
    inputs: str,
    seconds_per_call: float,
    code: Code,
    seen: Sequence[Seen],
    line_of: Callable[[int], tuple[str, int]],
    counts: Counted = "",
) -> Hotspots:
    """Return where the looks of several processes fell in a program's code.

    With ``counts`` they are no looks: each is a cycle or an instruction of one call, and all are
    there.
    ``code`` is its linked view, with addresses; ``line_of`` gives the source
    line of an address.
    """
    by_address: dict[int, tuple[str, Instruction]] = {}
    for function in code.functions:
        for instruction in function.instructions:
            by_address[instruction.address] = function.owner, instruction
    starts = sorted(by_address)
    exact = bool(counts)
    blamed = {} if exact else _waited_for(code)
    functions: list[Counter[str]] = []
    lines: list[Counter[tuple[str, int]]] = []
    instructions: list[Counter[int]] = []
    elsewhere: list[Counter[str]] = []
    for one in seen:
        rows = _place(one, by_address, starts, blamed)
        placed = {at: n for at, n in rows.items() if at >= 0}
        lost = Counter(one.outside)
        if rows[_NOWHERE]:
            lost["other code of the program"] += rows[_NOWHERE]
        functions.append(Counter(lost))
        lines.append(Counter())
        for at, samples in placed.items():
            functions[-1][code.title(by_address[at][0])] += samples
            lines[-1][line_of(at)] += samples
        instructions.append(Counter(placed))
        elsewhere.append(lost)
    totals = [one.total for one in seen]
    line_shares = _shares(lines, totals, exact)
    instruction_shares = _shares(instructions, totals, exact)
    hot: dict[tuple[str, int], list[HotInstruction]] = {}
    for at, share in sorted(instruction_shares.items()):
        name, instruction = by_address[at]
        times = seen[0].times.get(at) if exact else None
        row = HotInstruction(code.title(name), instruction, share, times)
        hot.setdefault(line_of(at), []).append(row)
    return Hotspots(
        candidate,
        inputs,
        seconds_per_call,
        sum(totals),
        len(seen),
        _ordered(_shares(functions, totals, exact)),
        tuple(HotLine(*key, share, tuple(hot[key])) for key, share in sorted(line_shares.items())),
        _ordered(_shares(elsewhere, totals, exact)),
        counts=counts,
    )


_NOWHERE = -1


_SLOW = (b.DIV, b.FDIV, b.FSQRT, b.ATOMIC)  # many times as long as what stands beside them
_ENDS = (b.JUMP, b.BRANCH, b.CALL, b.RETURN)


def _waited_for(code: Code) -> dict[int, int]:
    """Return address of an instruction -> that of the one before it, where that is waited for.

    That is slow by itself, or loads what the next one reads. Where another way leads between the
    two, it is not known which.
    """
    effect = semantics_of(code.isa).effect
    out = {}
    for function in code.functions:
        reached = set(function.labels.values())
        for k, (one, other) in enumerate(pairwise(function.instructions), 1):
            done = effect(one.mnemonic, one.operands)
            if k in reached or done.kind in _ENDS:
                continue
            slow = done.kind in _SLOW
            if done.loads and not slow:
                made = read_and_written(one.mnemonic, one.operands, code.isa)[1]
                slow = bool(made & read_and_written(other.mnemonic, other.operands, code.isa)[0])
            if slow:
                out[other.address] = one.address
    return out


def _place(
    one: Seen,
    by_address: Mapping[int, tuple[str, Instruction]],
    starts: Sequence[int],
    blamed: Mapping[int, int],
) -> Counter[int]:
    """Return the looks by the instruction that each counts for, _NOWHERE for none known."""
    from bisect import bisect_right

    out: Counter[int] = Counter({_NOWHERE: 0})
    for address, samples in one.inside.items():
        at = starts[max(bisect_right(starts, address) - 1, 0)] if starts else _NOWHERE
        size = by_address[at][1].size if starts else 0
        inside = at <= address < at + max(size, 1)
        out[blamed.get(at, at) if inside else _NOWHERE] += samples
    return out


def _ordered(shares: Mapping[str, Share]) -> tuple[tuple[str, Share], ...]:
    return tuple(sorted(shares.items(), key=lambda item: -item[1].samples))


def _shares(
    counts: Sequence[Counter[K]], totals: Sequence[int], exact: bool = False
) -> dict[K, Share]:
    keys = dict.fromkeys(key for counter in counts for key in counter)
    if exact:
        every = max(sum(totals), 1)
        sums = {key: sum(c[key] for c in counts) for key in keys}
        return {key: Share(found, found / every, 0.0) for key, found in sums.items()}
    return {key: share_of([c[key] for c in counts], totals) for key in keys}


def share_of(samples: Sequence[int], totals: Sequence[int]) -> Share:
    """Return the share of looks, given those of each process and all of each."""
    from scipy.special import stdtrit

    total = max(sum(totals), 1)
    share = sum(samples) / total
    middle = (sum(samples) + 2) / (total + 4)  # Agresti and Coull 1998: none seen is not none there
    error = 1.96 * (middle * (1 - middle) / (total + 4)) ** 0.5
    known = [a / b for a, b in zip(samples, totals, strict=True) if b]
    if len(known) > 1:
        mean = sum(known) / len(known)
        variance = sum((one - mean) ** 2 for one in known) / (len(known) - 1)
        between = float(stdtrit(len(known) - 1, 0.975)) * (variance / len(known)) ** 0.5
        error = max(error, between)
    return Share(sum(samples), share, error)


def line_text(sources: Mapping[str, Sequence[str]], line: HotLine) -> str:
    """Return the text of a source line, a word for code without one."""
    lines = sources.get(line.file, ())
    return lines[line.line - 1] if 0 < line.line <= len(lines) else ""
