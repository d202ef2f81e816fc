"""Made-up measurements of candidates whose truth is known, for tests of the statistics."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from hot_anvil.core.code.records import Code, Function, Instruction
from hot_anvil.core.measure.history import Maker, State, read_state, state_document
from hot_anvil.core.measure.measurements import Generation, Measurements
from hot_anvil.core.measure.summary import summarise

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
    """Return a made-up measurement: regimes that all share, effects of a generation, and noise.

    The control is the first candidate's. ``places`` (placement, column) are log
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


def state(number: int, works: list[float], codes: str, machine: str = "m1") -> State:
    """Return a kept measurement; ``codes`` has a letter for each candidate's code."""
    made = summarise([measurements(number, works, noise=0.003)], "c0")
    makers = {f"c{k}": Maker("gcc-12 (12.2.0)", "gcc", code) for k, code in enumerate(codes)}
    plain = state_document(made, "c0", makers, (machine, "a gauge's computer"), "")
    return read_state(number, 1e9 + number, "surge", plain)


def code(text: str, constants: dict[str, str] | None = None) -> Code:
    """Return code of functions written as "name: instruction; instruction"."""
    functions = []
    for line in text.splitlines():
        name, _, body = line.partition(": ")
        rows = [
            Instruction(word.split()[0], tuple(word.split()[1:]), "surge.c", k + 1, 0, False, k, 1)
            for k, word in enumerate(body.split("; "))
        ]
        functions.append(Function(name, ".text", "", tuple(rows), {}, (), constants or {}))
    return Code(tuple(functions), ("surge.c",), "x86")
