"""Robust statistics of paired measurements.

Method and measured error rates: docs/measurement.md. Sources of formulas:
K. Yuen, The two-sample trimmed t for unequal population variances,
Biometrika 61 (1974), for one sample: error^2 = (n-1) s_w^2 / (h (h-1)) with
s_w^2 the winsorised variance and h the number of values kept; R. Wilcox,
Introduction to Robust Estimation and Hypothesis Testing, 3rd ed., section 3.3.
"""

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple

from hot_anvil.core.measure.verdict_words import FASTER, NOT_ENOUGH, SLOWER, TIED, Word

if TYPE_CHECKING:
    from numpy.typing import NDArray

TRIM = 0.2
ALPHA = 0.01  # chance of any false claim among all pairs of one comparison
LEAST_FLOOR = 0.01  # log ratio under which no difference is ever claimed
ENOUGH = 0.05  # a wider interval than this says "not enough data"
FEWEST_GENERATIONS = 5
PER_BLOCK = 4  # values that a block needs to be told from noise


class Estimate(NamedTuple):
    """A difference of mean log times with its interval's half width."""

    centre: float
    half_width: float


class Blocked(NamedTuple):
    """A mean over blocks with its interval, and what that is made of."""

    estimate: Estimate
    noise: float  # the part of the half width that is noise
    narrows: float  # the part that more data would narrow: all, where blocks differ by noise only
    means: tuple[float, ...]  # of each block, () where there are too few values for that


def trimmed_interval(values: "NDArray[Any]", alpha: float) -> Estimate:
    """Return the 20 % trimmed mean of ``values`` (shape (G,)) and its half width.

    The interval covers the true value with probability 1 - ``alpha``. With
    fewer than FEWEST_GENERATIONS values the half width is infinite.
    """
    import numpy as np
    from scipy.special import stdtrit

    count = len(values)
    ordered = np.sort(values)
    cut = int(TRIM * count)
    kept = ordered[cut : count - cut]
    centre = float(kept.mean())
    if count < FEWEST_GENERATIONS:
        return Estimate(centre, float("inf"))
    winsorised = np.clip(ordered, ordered[cut], ordered[count - cut - 1])
    left = len(kept)
    error = float(np.sqrt(winsorised.var(ddof=1) * (count - 1) / (left * (left - 1))))
    quantile = float(stdtrit(left - 1, 1 - alpha / 2))
    return Estimate(centre, quantile * error)


def pair_alpha(candidates: int) -> float:
    """Return the error chance for one pair so that ALPHA holds over all pairs.

    Bonferroni over all pairs: the best is chosen by the same data, so
    correcting only for the comparisons with it would not be enough.
    """
    pairs = candidates * (candidates - 1) // 2
    return ALPHA / max(pairs, 1)


def blocked(
    values: "NDArray[Any]",
    blocks: "NDArray[Any]",
    alpha: float,
    kind_of: Callable[[int], int] | None = None,
) -> Blocked:
    """Return the mean over blocks (placements) with its interval, noise apart.

    ``values`` and ``blocks`` have shape (G,). Where each block has at least
    PER_BLOCK values: the mean of the blocks' trimmed means; noise from the
    values less their block's mean (Yuen, with h - blocks degrees of freedom,
    at ``alpha``); and what a choice of these blocks of all there could be
    leaves open (Student's t at ALPHA), in quadrature. ``kind_of`` gives the kind
    of a block: where the blocks hold every kind there is equally often, only
    what differs among blocks of one kind is left open (stratified sampling: W.
    Cochran, Sampling Techniques, 3rd ed., section 5.4). With too few values for
    that, what blocks of a kind differ by counts as noise; with too few even of
    each kind, so does what kinds differ by. Whether noise explains what blocks
    differ by: F test at ALPHA.
    """
    import numpy as np
    from scipy.special import fdtri, stdtrit

    every, index, counts = np.unique(blocks, return_inverse=True, return_counts=True)
    kinds = np.array([kind_of(int(block)) if kind_of else 0 for block in every])
    if len(every) < 2 or counts.min() < PER_BLOCK:
        own = kinds[index]
        if kind_of is None or np.bincount(own).min() < PER_BLOCK:
            plain = trimmed_interval(values, alpha)
            return Blocked(plain, plain.half_width, plain.half_width, ())
        means, variance, freedom = _block_means(values, own)
        noise = float(stdtrit(freedom, 1 - alpha / 2) * variance**0.5)
        return Blocked(Estimate(float(means.mean()), noise), noise, noise, ())
    means, variance, freedom = _block_means(values, index)
    noise = float(stdtrit(freedom, 1 - alpha / 2) * variance**0.5)
    among, own_freedom = _among_blocks(means, kinds)
    left_open = float(stdtrit(own_freedom, 1 - ALPHA / 2) * among**0.5)
    half_width = (noise**2 + left_open**2) ** 0.5
    by_noise = among <= variance * float(fdtri(own_freedom, freedom, 1 - ALPHA))
    return Blocked(
        Estimate(float(means.mean()), half_width),
        noise,
        half_width if by_noise else noise,
        tuple(means.tolist()),
    )


def _block_means(
    values: "NDArray[Any]", index: "NDArray[Any]"
) -> "tuple[NDArray[Any], float, int]":
    """Return (trimmed mean of each block, variance of their mean by noise, its freedom)."""
    import numpy as np

    means = np.array([_trimmed(values[index == block]) for block in range(index.max() + 1)])
    rest = np.sort(values - means[index])
    count, cut = len(rest), int(TRIM * len(rest))
    kept = count - 2 * cut
    freedom = kept - len(means)
    winsorised = np.clip(rest, rest[cut], rest[count - cut - 1])
    variance = float(winsorised.var(ddof=1) * (count - 1) / (kept * max(freedom, 1)))
    return means, variance, freedom


def _among_blocks(means: "NDArray[Any]", kinds: "NDArray[Any]") -> tuple[float, int]:
    """Return (variance of the mean of blocks, its degrees of freedom), given their kinds."""
    import numpy as np

    _, index, counts = np.unique(kinds, return_inverse=True, return_counts=True)
    if counts.min() < 2 or counts.min() != counts.max():
        index, counts = np.zeros(len(means), dtype=int), np.array([len(means)])
    own = np.bincount(index, means) / counts
    freedom = len(means) - len(counts)
    return float(np.sum((means - own[index]) ** 2)) / freedom / len(means), freedom


def _trimmed(values: "NDArray[Any]") -> float:
    import numpy as np

    cut = int(TRIM * len(values))
    return float(np.sort(values)[cut : len(values) - cut].mean())


def floor_of(control: Estimate) -> float:
    """Return the log ratio under which a difference means nothing here.

    ``control`` is a candidate against its own control, so all of it is noise.
    """
    return max(LEAST_FLOOR, abs(control.centre), control.half_width)


def word_for(difference: Estimate, floor: float, narrows: float) -> Word:
    """Return FASTER, SLOWER, TIED or NOT_ENOUGH for a log ratio.

    ``narrows`` is the part of the half width that more data would narrow.
    """
    if abs(difference.centre) > max(difference.half_width, floor):
        return FASTER if difference.centre < 0 else SLOWER
    return TIED if max(narrows, floor) <= ENOUGH else NOT_ENOUGH
