"""What compilers say, when they are asked, to reasons that they know better."""

from collections.abc import Iterable, Sequence

from hot_anvil.core.code.places import LineMap, Place
from hot_anvil.core.diff.records import Reason
from hot_anvil.core.reasons.remarks import place_of
from hot_anvil.core.reasons.vectors import VECTORISED
from hot_anvil.core.remarks.records import DONE, MISSED, Remark
from hot_anvil.core.remarks.table import told

KINDS = (VECTORISED,)  # of reasons worth asking compilers about
SIDES = ("left", "right")


def with_answers(
    reasons: Iterable[Reason],
    answers: tuple[Sequence[Remark], Sequence[Remark]],
    lines: LineMap,
) -> tuple[Reason, ...]:
    """Return the reasons, with why one side's compiler did not do the same, in its words.

    Where the compilers' words cannot be true together with a reason, ``against`` says so.
    """
    sides = tuple(
        [
            (place_of(r.file, r.line, None if k else lines), r)
            for r in own
            if r.about == "vectorising"
        ]
        for k, own in enumerate(answers)
    )
    return tuple(_answered(reason, sides) if reason.kind in KINDS else reason for reason in reasons)


def _answered(reason: Reason, sides: Sequence[Sequence[tuple[Place, Remark]]]) -> Reason:
    own = [[r for place, r in side if place in reason.places and not r.depth] for side in sides]
    did = [any(r.kind == DONE for r in side) for side in own]
    missed = [[r for r in side if r.kind == MISSED and r.why] for side in own]
    why = [
        f"{name}, on why not: {'; '.join(dict.fromkeys(told(c) for r in rows for c in r.why))}"
        for name, rows, done in zip(SIDES, missed, did, strict=True)
        if rows and not done
    ]
    against = ""
    if all(did):
        against = "both compilers say that they vectorised here"
    elif all(missed) and not any(did):
        against = "both compilers say that they did not vectorise here"
    return reason._replace(remarks=(*reason.remarks, *why), against=against)
