"""Which reasons lead: what changes most, and what matters most to a reader."""

from collections.abc import Sequence

from hot_anvil.core.diff.records import REMARKED, Reason

_PASSES = 8  # that a loop is taken to make


def leading(reasons: Sequence[Reason], count: int) -> list[Reason]:
    """Return the reasons to tell first, at most ``count``.

    Those that name one thing an optimiser did come before those that hold for
    every line, and small ones after both. Within these, what may change results
    comes first, then what explains the most instructions: one in a loop counts
    as several, as it is carried out again and again.
    """

    def rank(reason: Reason) -> tuple[int, bool, int, int]:
        later = reason.confidence == REMARKED
        carried_out = reason.weight * _PASSES**reason.depth
        return reason.level + later, not reason.results, -carried_out, -_evidence(reason)

    chosen: list[Reason] = []
    kinds: dict[tuple[str, str], int] = {}
    for reason in sorted(reasons, key=rank):
        key = reason.kind, reason.function
        if kinds.get(key, 0) < 2:
            kinds[key] = kinds.get(key, 0) + 1
            chosen.append(reason)
    return chosen[:count]


def _evidence(reason: Reason) -> int:
    return len(reason.left) + len(reason.right)
