"""What compilers say of their own doing, and the reasons that it bears out."""

import re
from collections.abc import Iterator, Mapping, Sequence

from hot_anvil.core.code.places import LineMap, Place
from hot_anvil.core.diff.records import REMARKED, Reason
from hot_anvil.core.reasons import calls, loops, vectors
from hot_anvil.core.toolchain.remarks import DoneRemark

_KINDS = (
    (vectors.VECTORISED, r"loop vectorized|vectorized loop"),
    (
        vectors.UNROLLED,
        r"loop (?:with \d+ iterations )?(?:completely )?unrolled|(?:completely )?unrolled loop",
    ),
    (vectors.COMBINED, r"basic block part vectorized|SLP vectorized|vectorized horizontal"),
    (calls.INLINED, r"Inlin(?:ed|ing) |'.+' inlined into "),
    (calls.OTHER, r"Loop \d+ distributed: split to 0 loops and 1 library calls|Formed a call to"),
)


def kind_of(remark: DoneRemark) -> str:
    """Return the kind of reason that a remark speaks of, "" for others."""
    return next((kind for kind, pattern in _KINDS if re.match(pattern, remark.text)), "")


def borne_out(
    reasons: Sequence[Reason],
    remarks: tuple[Sequence[DoneRemark], Sequence[DoneRemark]],
    lines: LineMap,
    functions: Mapping[Place, str],
) -> Iterator[Reason]:
    """Give the reasons, with the remarks that say the same, and those only a compiler says.

    A remark counts if one side's compiler made it and the other's did not.
    ``functions`` tells which function has code of a line that differs.
    """
    said: dict[tuple[str, Place], list[str]] = {}
    sides = [
        {
            (kind_of(r), place_of(r.file, r.line, lines if left else None)): r
            for r in own
            if kind_of(r)
        }
        for left, own in ((True, remarks[0]), (False, remarks[1]))
    ]
    for side, other, which in ((sides[0], sides[1], "left"), (sides[1], sides[0], "right")):
        for key, remark in side.items():
            if key not in other:
                said.setdefault(key, []).append(f"{which}: {remark.text}")
    used: set[tuple[str, Place]] = set()
    for reason in reasons:
        keys = [(reason.kind, place) for place in sorted(reason.places)] if said else []
        own = [key for key in keys if key in said]
        used.update(own)
        texts = tuple(text for key in own for text in said[key])
        yield reason._replace(remarks=texts) if texts else reason
    told = {place for reason in reasons if reason.kind in loops.KINDS for place in reason.places}
    for (kind, place), lines_said in said.items():
        again = kind in loops.KINDS and place in told  # of a part of a loop that is explained
        if (kind, place) not in used and place in functions and not again:
            text = f"only the compiler says so: {'; '.join(lines_said)}"
            at = frozenset((place,))
            yield Reason(kind, text, REMARKED, functions[place], (), (), at, tuple(lines_said))


def place_of(file: str, line: int, lines: LineMap | None) -> Place:
    """Return the place of a side's line; ``lines`` are for the left side."""
    return lines.place(file, line) if lines else Place(file, line)
