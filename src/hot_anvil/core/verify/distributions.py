"""Do two candidates put out the same things as often? For references that are unstable."""

from collections.abc import Callable, Sequence
from typing import Any, NamedTuple, TypeVar

from hot_anvil.core.verify.verdicts import NOT_RUN, UNSTABLE, Verdict

LEVEL = 0.01  # of being told apart by chance, over all candidates that are compared
_SHUFFLES = 4999
Thing = TypeVar("Thing")


class Compared(NamedTuple):
    """Two tallies beside each other."""

    differ: bool
    p: float  # probability of a difference as large where there is none
    level: float  # that p was held against

    @property
    def text(self) -> str:
        """In words."""
        p = f"p < {self.p:.2g}" if self.p <= 1 / (_SHUFFLES + 1) else f"p = {self.p:.2g}"
        how = "differ" if self.differ else "do not differ"
        return f"how often each output comes: they {how} ({p}, level {self.level:.2g})"


def compare_tallies(left: Sequence[int], right: Sequence[int], candidates: int = 1) -> Compared:
    """Compare how often each of the same outputs came on two sides.

    A permutation test of the chi-squared statistic for two samples (Good, *Permutation Tests*,
    2nd ed., 3.2), its level divided by how many candidates are compared (Bonferroni): it holds
    for few runs and rare outputs, where the asymptotic distribution does not. ``left`` and
    ``right`` are counts of outputs, in one order.
    """
    import numpy as np

    table = np.asarray([left, right])
    sizes, columns = table.sum(axis=1), table.sum(axis=0)
    expected = np.outer(sizes, columns) / sizes.sum()
    # Shuffling which run was whose draws the left counts without putting any back.
    drawn = np.random.default_rng(1).multivariate_hypergeometric(columns, sizes[0], _SHUFFLES)

    def statistic(first: "np.ndarray[Any, np.dtype[np.int64]]") -> "np.ndarray[Any, Any]":
        seen = np.stack([first, columns - first], axis=-2)
        parts: np.ndarray[Any, Any] = (seen - expected) ** 2 / np.where(expected, expected, 1)
        return np.asarray(parts.sum(axis=(-2, -1)))

    as_large = int((statistic(drawn) >= statistic(table[0]) - 1e-9).sum())
    p = (1 + as_large) / (1 + _SHUFFLES)
    level = LEVEL / max(candidates, 1)
    return Compared(p <= level, p, level)


def beside(verdict: Verdict, reference: str, told: Compared | None, label: str) -> Verdict:
    """Return what is known of a candidate whose reference is unstable on the inputs ``label``.

    ``told`` is None where the two could not be compared.
    """
    if verdict.verdict == UNSTABLE and told is None:
        return verdict
    if verdict.verdict == UNSTABLE and told:
        said = f"beside the reference, {told.text}"
        return verdict._replace(suspects=(*verdict.suspects, said))
    why = f"the reference {reference} is unstable, so no one output is right"
    why += f"; {told.text}" if told else ""
    plain = verdict._replace(suspects=(), smallest=(), smallest_why="", between=None, replay="")
    return plain._replace(verdict=NOT_RUN, why=why, inputs=label)


def in_one_order(
    left: Sequence[tuple[int, Thing]],
    right: Sequence[tuple[int, Thing]],
    same: Callable[[Thing, Thing], bool],
) -> tuple[list[int], list[int]]:
    """Return the counts of two tallies over the same outputs, zeros where one never came."""
    kinds: list[Thing] = []
    counts: tuple[list[int], list[int]] = ([], [])
    for side, tally in enumerate((left, right)):
        for count, thing in tally:
            at = next((k for k, known in enumerate(kinds) if same(known, thing)), len(kinds))
            if at == len(kinds):
                kinds.append(thing)
                counts[0].append(0)
                counts[1].append(0)
            counts[side][at] += count
    return counts
