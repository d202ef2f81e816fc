"""Robust statistics of paired measurements.

Method and measured error rates: docs/measurement.md. Sources of formulas:
K. Yuen, The two-sample trimmed t for unequal population variances,
Biometrika 61 (1974), for one sample: error^2 = (n-1) s_w^2 / (h (h-1)) with
s_w^2 the winsorised variance and h the number of values kept; R. Wilcox,
Introduction to Robust Estimation and Hypothesis Testing, 3rd ed., section 3.3.
"""

from typing import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    from numpy.typing import NDArray

TRIM = 0.2
ALPHA = 0.01  # chance of any false claim among all pairs of one comparison
LEAST_FLOOR = 0.01  # log ratio under which no difference is ever claimed
ENOUGH = 0.05  # a wider interval than this says "not enough data"
FEWEST_GENERATIONS = 5


class Estimate(NamedTuple):
    """A difference of mean log times with its interval's half width."""

    centre: float
    half_width: float


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


def centred_effects(log_times: "NDArray[Any]", columns: "NDArray[Any]") -> "NDArray[Any]":
    """Return each candidate's effect in one turn, shape (K,).

    ``log_times`` has shape (rounds, K), in log seconds. Each round is centred
    on the mean of ``columns`` (indices), which takes out what all candidates
    of a round share; the median over rounds follows. A candidate that did not
    run is NaN in and out.
    """
    import numpy as np

    centred = log_times - log_times[:, columns].mean(axis=1, keepdims=True)
    ran = ~np.isnan(centred).any(axis=0)
    effects = np.full(log_times.shape[1], np.nan)
    effects[ran] = np.median(centred[:, ran], axis=0)
    return effects


def known(values: "NDArray[Any]") -> "NDArray[Any]":
    """Return the values that are not NaN."""
    import numpy as np

    return np.asarray(values[~np.isnan(values)])


def noise_floor(effects: "NDArray[Any]", twin_of: int, twin: int) -> float:
    """Return the log ratio under which a difference means nothing here.

    ``effects`` has shape (G, K); ``twin`` is a second copy of ``twin_of``, so
    any difference between them is noise.
    """
    control = trimmed_interval(effects[:, twin] - effects[:, twin_of], ALPHA)
    return max(LEAST_FLOOR, abs(control.centre), control.half_width)


def with_placement(noise: Estimate, variances: tuple[float, float], count: int) -> Estimate:
    """Widen an interval by what the choice of placements leaves open.

    ``variances`` are those of the two candidates' effects over ``count``
    placements each, of all there could be. Their part of the half width is
    Student's t at ALPHA with 2 (count - 1) degrees of freedom times the error
    of the difference of two means; it adds to the noise in quadrature.
    """
    from scipy.special import stdtrit

    if count < 2:
        return noise
    error = (sum(variances) / count) ** 0.5
    open_part = float(stdtrit(2 * (count - 1), 1 - ALPHA / 2)) * error
    return Estimate(noise.centre, (noise.half_width**2 + open_part**2) ** 0.5)


def word_for(difference: Estimate, floor: float, noise: float) -> str:
    """Return "faster", "slower", "tied" or "not enough data" for a log ratio.

    ``noise`` is the part of the half width that more data would narrow.
    """
    if abs(difference.centre) > max(difference.half_width, floor):
        return "faster" if difference.centre < 0 else "slower"
    return "tied" if max(noise, floor) <= ENOUGH else "not enough data"
