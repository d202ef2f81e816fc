"""Draw more input sets, and keep those that reach lines which no other set did."""

import random
from collections.abc import Iterator, Sequence
from itertools import count

from hot_anvil.core.inputs.edges import drawn_set, near_set
from hot_anvil.core.inputs.fills import Files
from hot_anvil.core.inputs.input_sets import InputSet, make_rivals, whole_numbers
from hot_anvil.errors import RequestError
from hot_anvil.system.check.plan import CheckPlan
from hot_anvil.system.check.reaching import reached_each
from hot_anvil.system.execute.calls import prepare_inputs

_AT_ONCE = 32  # sets tried before the next are drawn by what was kept
_GAIN = 4  # that a kind of drawing is tried the more for each set of it that was kept
_LATEST = 4  # of those that were kept, that others are drawn near
_NEAR = "near"  # one that was kept, but for one number


def draw_sets(
    plan: CheckPlan, made: Sequence[Sequence[InputSet]], files: Files
) -> list[list[InputSet]]:
    """Return more input sets of each entry, the same for all: those that reach more lines.

    A kind of drawing is the more often tried the more sets of it were kept.
    """
    out: list[list[InputSet]] = [[] for _ in plan.signatures]
    if plan.reach().program.why:
        return out
    told = [_lines(plan, k, own) for k, own in enumerate(made)]
    known = [frozenset().union(*lines) for lines in told]
    telling = [one for one, lines in zip(made[0], told[0], strict=True) if lines]
    weights = {"": 1, "constants": 1, "sizes": 1, _NEAR: _GAIN}
    tries = count()
    chance = random.Random(1)
    for number in range(0, plan.options.draw, _AT_ONCE):
        size = min(plan.options.draw - number, _AT_ONCE)
        kinds = chance.choices(list(weights), list(weights.values()), k=size)
        rows = list(_rows(plan, kinds, number, files, telling, tries))
        chosen: set[int] = set()
        for entry in range(len(plan.signatures)):
            for at, lines in enumerate(_lines(plan, entry, [row[entry] for _, row in rows])):
                if lines - known[entry]:
                    known[entry] |= lines
                    chosen.add(at)
        for at in sorted(chosen):
            kind, row = rows[at]
            weights[kind] += _GAIN
            telling.append(row[0])
            for own, inputs in zip(out, row, strict=True):
                own.append(inputs)
    return out


def _rows(
    plan: CheckPlan,
    kinds: Sequence[str],
    number: int,
    files: Files,
    telling: Sequence[InputSet],
    tries: Iterator[int],
) -> Iterator[tuple[str, list[InputSet]]]:
    """Give the kind and the sets for every entry; those that cannot be made are left out."""
    given = plan.snippet, plan.signatures
    for at, kind in enumerate(kinds, number):
        if kind == _NEAR:
            # The latest kept reached furthest.
            latest = telling[-_LATEST:]
            turn, which = divmod(next(tries), max(len(latest), 1))
            values = whole_numbers(latest[which], plan.signatures[0]) if latest else {}
            near = latest[which].spec if latest else None
            spec = near_set(*given, near, values, turn, plan.constants) if near else None
        else:
            spec = drawn_set(*given, kind, at, plan.constants)
        if spec and not {spec.edge, "all"} & set(plan.snippet.not_promised):
            try:
                yield kind, make_rivals(plan.bench, *given, spec, files)
            except RequestError:
                continue  # such as a count of n - 1 with n = 0


def _lines(
    plan: CheckPlan, entry: int, sets: Sequence[InputSet]
) -> list[frozenset[tuple[str, int]]]:
    """Return the lines that each set is the first of them to reach."""
    signature = plan.signatures[entry]
    ready = prepare_inputs(entry, signature, sets, plan.bench.root, plan.call_seconds)
    return reached_each(plan.reach(), ready)
