"""A snippet's candidates as they were measured and ranked."""

from collections.abc import Mapping
from types import MappingProxyType
from typing import NamedTuple

from hot_anvil.core.measure.choosing import Pick
from hot_anvil.core.measure.code_identity import CodeIdentity
from hot_anvil.core.measure.elsewhere import Elsewhere
from hot_anvil.core.measure.hotspots import Share
from hot_anvil.core.measure.measurements import Count, Measurements
from hot_anvil.core.measure.summary import Comparison, Summary
from hot_anvil.core.verify.results import Checked

NO_COUNTS: Mapping[tuple[str, str], Count] = MappingProxyType({})


class EarlierComparison(NamedTuple):
    """A candidate beside its earlier code, measured in the same rounds."""

    inputs: str
    candidate: str
    earlier: str
    comparison: Comparison  # its time over its earlier code's
    same_code: bool  # all that the entry reaches is what it was


class Measured(NamedTuple):
    """The measurement of one snippet."""

    checked: Checked
    baseline: str  # the timed candidate that ratios are given against
    measurements: tuple[Measurements, ...]
    summaries: tuple[Summary, ...]  # one per sweep point
    overall: Summary | None  # over all points; None when nothing was correct
    identities: tuple[CodeIdentity, ...] = ()  # of each candidate with the baseline
    counts: Mapping[tuple[str, str], Count] = NO_COUNTS  # (candidate, inputs); where asked for
    counted_by: str = ""  # the emulator and its CPU model
    earlier: tuple[EarlierComparison, ...] = ()  # where earlier code was measured too
    elsewhere: tuple[Elsewhere, ...] = ()  # candidates of other targets: counted, not timed


class Explored(NamedTuple):
    """What a search over flag sets went through."""

    flag_sets: int  # that were compiled
    refused: int
    different: int  # that make code of their own, the bench's own builds among them
    wrong: int  # candidates of those
    measured: int  # candidates that were measured shortly
    finalists: int  # builds that were measured properly, beside the baseline


class Picked(NamedTuple):
    """The whole job on one snippet."""

    measured: Measured
    pick: Pick
    identities: tuple[CodeIdentity, ...] = ()  # of each candidate with the fastest
    share: float | None = None  # of a whole program's time that the entry takes
    seen: Share | None = None  # where that was measured
    explored: Explored | None = None  # where more than the bench's builds were tried
