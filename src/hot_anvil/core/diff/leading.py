"""Which reasons lead: what changes most, and what matters most to a reader."""

from collections.abc import Sequence

from hot_anvil.core.diff.records import REMARKED, Reason


def leading(reasons: Sequence[Reason], count: int) -> list[Reason]:
    """Return the reasons to tell first, at most ``count``.

    Those that name one thing an optimiser did come before those that hold for
    every line, and small ones after both; within these, what explains the most
    instructions.
    """

    def rank(reason: Reason) -> tuple[int, int, int]:
        later = reason.confidence == REMARKED
        return reason.level + later, -reason.weight, -_evidence(reason)

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
