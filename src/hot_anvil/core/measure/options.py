"""How a person wants a measurement done."""

from typing import NamedTuple

DEFAULT_SECONDS = 1.0
EARLIER = "earlier"  # stands for the earlier code where a build is asked for


class Options(NamedTuple):
    """What a measurement takes, and what may be asked of it besides times."""

    seconds: float = DEFAULT_SECONDS  # at most, for each candidate and sweep point
    seed: int | None = None  # of all random order; None draws one
    apart: bool = False  # a process of its own for every build
    cold: bool = False  # displace caches and branch predictors before each call
    counted: bool = False  # executed instructions too, under an emulator
    imported: str = ""  # file of times that something else measured, in place of measuring
    prefer: tuple[str, ...] = ()  # what decides among tied ones: PREFERENCES of ``choosing``
    share: float | None = None  # of a whole program's time; None: what the bench says
    tried: bool = False  # of experiments, which are no part of the bench's history


DEFAULTS = Options()
