"""Made-up contests of candidates whose truth is known, for tests of the statistics."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from hot_anvil.core.measure.measurements import Generation, Measurements

PLACES = 8
ROUNDS = 3


def measurements(
    seed: int,
    works: list[float],
    generations: int = 40,
    noise: float = 0.01,
    places: NDArray[Any] | None = None,
    busy: list[float] | None = None,
) -> Measurements:
    """Return a made-up contest: regimes that all share, effects of a generation, and noise.

    The twin is the first candidate's. ``places`` (placement, column) are log
    times that placement adds; ``busy`` those that a busy machine adds.
    """
    chance = np.random.default_rng(seed)
    made = []
    columns = len(works) + 1
    slower = np.array(busy or [0.6] * columns)
    for number in range(generations):
        times: NDArray[Any] = np.log(np.array([*works, works[0]]))
        if places is not None:
            times = times + places[number % PLACES]
        own = chance.normal(0, noise / 3, columns)
        regime = chance.choice([0.0, 1.0], (ROUNDS, 1))
        noisy = chance.normal(0, noise, (ROUNDS, columns))
        rounds = np.exp(times + own + regime * slower + noisy)
        probes = np.broadcast_to(1e-5 * (1 + regime), rounds.shape)
        rows, seen = (tuple(map(tuple, array.tolist())) for array in (rounds, probes))
        made.append(Generation(number % PLACES * 16, 0, rows, seen, (1e-5,) * columns, 0.0))
    names = tuple(f"c{k}" for k in range(len(works)))
    return Measurements("surge", "", names, tuple(made), {})
