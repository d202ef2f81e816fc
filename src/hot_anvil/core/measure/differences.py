"""From the times of many batches to differences of two candidates, with intervals.

Two candidates are compared within a round, where their batches lie milliseconds
apart: the median over a generation's rounds of the difference of their log
times is one number for each generation. Statistics are over generations.
"""

import math
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from hot_anvil.core.measure.measurements import Measurements, position_of
from hot_anvil.core.measure.statistics import (
    ALPHA,
    Blocked,
    Estimate,
    blocked,
    pair_alpha,
    trimmed_interval,
)

if TYPE_CHECKING:
    from numpy.typing import NDArray

QUIET = 1.1  # a probe this much longer than the shortest ones says the machine is busy
_SHORTEST = 0.05  # quantile of all probes that counts as the shortest
_FEWEST = 5  # generations that a statement about one regime or placement takes
AS_BUILT = 0  # the placement that the linker gives by itself


class Between(NamedTuple):
    """What is known of the log ratio of two candidates' times."""

    over: Blocked  # over placements: the log ratio, and at each of them
    as_built: Estimate | None  # at the placement that the linker gives by itself
    quiet: Estimate | None  # while the machine was quiet, and while it was busy
    busy: Estimate | None


EQUAL = Between(Blocked(Estimate(0.0, 0.0), 0.0, 0.0, ()), None, None, None)


class Differences:
    """Differences of any two columns of one measurement, or averaged over several."""

    def __init__(self, all_measurements: Sequence[Measurements]) -> None:
        import numpy as np

        self.count = len(all_measurements[0].candidates)
        self._alpha = pair_alpha(self.count)
        generations = all_measurements[0].generations
        self.placements = np.array([g.placement for g in generations])
        counts = all_measurements[0].machines or (len(generations),)
        self._machine = np.repeat(np.arange(len(counts)), counts)
        self.control_of = [
            [g.control_of for g in measurements.generations] for measurements in all_measurements
        ]
        self._logs = [_cube(measurements, lambda g: g.times) for measurements in all_measurements]
        self._quiet = [_quiet(measurements) for measurements in all_measurements]
        names = all_measurements[0].candidates
        self._aligned = {k for k, name in enumerate(names) if name in all_measurements[0].aligned}

    def differences(self, a: int, b: int, kept: str = "") -> "NDArray[Any]":
        """Return log t_a - log t_b of each generation, NaN where one was not measured.

        ``kept`` "quiet" or "busy" takes only batches during that regime.
        """
        import numpy as np

        out = []
        for logs, quiet in zip(self._logs, self._quiet, strict=True):
            both = logs[:, :, a] - logs[:, :, b]
            if kept:
                state = quiet if kept == "quiet" else ~quiet
                both = np.where(state[:, :, a] & state[:, :, b], both, np.nan)
            out.append(_median(both))
        return np.asarray(np.mean(out, axis=0))

    def between(self, a: int, b: int) -> Between:
        """Return what is known of the ratio of two candidates' times."""
        if a == b:
            return EQUAL
        values = self.differences(a, b)
        aligned = {a, b} <= self._aligned
        return Between(
            self._over_machines(values, aligned),
            self._estimate(values[self.placements == AS_BUILT]),
            self._estimate(self.differences(a, b, "quiet")),
            self._estimate(self.differences(a, b, "busy")),
        )

    def ratio(self, a: int, b: int) -> float:
        """Return the log ratio of two candidates alone."""
        return self._blocked(self.differences(a, b)).estimate.centre

    def _over_machines(self, differences: "NDArray[Any]", aligned: bool) -> Blocked:
        """Return what all generations say; what machines do not agree on spans what each says.

        Machines of a class count as one until their own intervals are apart: then they differ by
        more than noise, and two or three of them say little of the others.
        """
        import numpy as np

        together = self._blocked(differences, aligned)
        every = range(int(self._machine.max()) + 1)
        if len(every) == 1:
            return together
        each = (np.where(self._machine == k, differences, np.nan) for k in every)
        own = [self._blocked(values, aligned).estimate for values in each]
        lows = [one.centre - one.half_width for one in own]
        highs = [one.centre + one.half_width for one in own]
        if max(lows) <= min(highs):
            return together
        low, high = min(lows), max(highs)
        spanned = Estimate((low + high) / 2, (high - low) / 2)
        return together._replace(estimate=spanned, narrows=together.noise)

    def _blocked(self, differences: "NDArray[Any]", aligned: bool = False) -> Blocked:
        values, placements = self._known(differences)
        if not len(values):  # never measured in one generation
            return Blocked(Estimate(0.0, math.inf), math.inf, math.inf, ())
        # All positions in a cache line that aligned code can have were met equally often.
        return blocked(values, placements, self._alpha, position_of if aligned else None)

    def control(self) -> Estimate:
        """Return the difference between candidates and their own controls."""
        import numpy as np

        control = self.count
        at_each_point = []
        for number, controls in enumerate(self.control_of):
            logs = self._logs[number]
            own = np.stack([logs[g, :, k] for g, k in enumerate(controls)])
            at_each_point.append(_median(logs[:, :, control] - own))
        values, placements = self._known(np.mean(at_each_point, axis=0))
        if not len(values):  # nothing was measured twice
            return Estimate(0.0, 0.0)
        found = blocked(values, placements, ALPHA)
        return Estimate(found.estimate.centre, found.noise)

    @property
    def busy_share(self) -> float:
        """The share of batches during which the machine was busy."""
        batches = [
            ~quiet[~self._nan(logs)] for quiet, logs in zip(self._quiet, self._logs, strict=True)
        ]
        return float(sum(v.sum() for v in batches) / max(sum(v.size for v in batches), 1))

    def placement_spread(self, k: int) -> float | None:
        """Return a candidate's time at its worst placement over that at its best.

        Medians of batches during the regime that most of them met; None where
        too few were seen.
        """
        import numpy as np

        spreads = []
        for logs, quiet in zip(self._logs, self._quiet, strict=True):
            there = ~self._nan(logs[:, :, k])
            mostly = quiet[:, :, k] if quiet[there, k].mean() >= 0.5 else ~quiet[:, :, k]
            own = np.where(mostly & there, logs[:, :, k], np.nan)
            places = [own[self.placements == p].ravel() for p in np.unique(self.placements)]
            known = [p[~self._nan(p)] for p in places]
            if len(known) < 2 or min(map(len, known)) < _FEWEST:
                return None
            medians = [float(np.median(p)) for p in known]
            spreads.append(max(medians) - min(medians))
        return math.exp(sum(spreads) / len(spreads))

    @staticmethod
    def _nan(values: "NDArray[Any]") -> "NDArray[Any]":
        import numpy as np

        return np.asarray(np.isnan(values))

    def _known(self, values: "NDArray[Any]") -> "tuple[NDArray[Any], NDArray[Any]]":
        there = ~self._nan(values)
        return values[there], self.placements[there]

    def _estimate(self, values: "NDArray[Any]") -> Estimate | None:
        known = values[~self._nan(values)]
        return trimmed_interval(known, self._alpha) if len(known) >= _FEWEST else None


def _cube(
    measurements: Measurements, rows: Callable[[Any], Sequence[Sequence[float]]]
) -> "NDArray[Any]":
    """Return logarithms, shape (generations, rounds, columns), NaN where nothing was measured."""
    import numpy as np

    most = max(len(rows(g)) for g in measurements.generations)
    cube = np.full((len(measurements.generations), most, len(measurements.candidates) + 1), np.nan)
    for number, generation in enumerate(measurements.generations):
        own = rows(generation)
        if own:
            cube[number, : len(own)] = np.log(np.array(own))
    return cube


def _quiet(measurements: Measurements) -> "NDArray[Any]":
    """Return which batches were made while the machine was quiet, in the cube's shape."""
    import numpy as np

    probes = _cube(measurements, lambda g: g.probes)
    known = probes[~np.isnan(probes)]
    if not known.size:
        return np.ones(probes.shape, dtype=bool)
    return np.asarray(probes <= np.quantile(known, _SHORTEST) + math.log(QUIET))


def _median(values: "NDArray[Any]") -> "NDArray[Any]":
    """Return the median over rounds of each generation, NaN where there is none."""
    import numpy as np

    ordered = np.sort(values, axis=1)  # what was not measured comes last
    count = np.count_nonzero(~np.isnan(values), axis=1)
    rows = np.arange(len(values))
    middle = ordered[rows, np.maximum(count - 1, 0) // 2] + ordered[rows, np.minimum(
        count // 2, values.shape[1] - 1
    )]  # fmt: skip
    return np.asarray(np.where(count > 0, middle / 2, np.nan))
