"""Find instructions that stand under another source line on the other side."""

from collections.abc import Mapping, Sequence

from hot_anvil.core.flow import Body
from hot_anvil.core.linemap import Place
from hot_anvil.core.meaning import base as b

_COMMON = (b.MOVE, b.PUSH, b.POP, b.CONSTANT, b.JUMP, b.NOTHING)


def moved_between(
    left: Body, right: Body, found: Mapping[Place, Sequence[tuple[int, int]]]
) -> dict[tuple[int, int], Place]:
    """Return (place, -1) or (-1, place) -> the line that its counterpart stands under.

    Only what is without counterpart in its own line can have moved; its text
    must be the same and the only one of it on either side, and either say
    enough to be known again or stand beside another that moved along.
    """
    gone = {i: place for place, two in found.items() for i, j in two if j < 0}
    new = {j: place for place, two in found.items() for i, j in two if i < 0}
    only_left, only_right = _unique(gone, left), _unique(new, right)
    pairs = {
        (i, only_right[text])
        for text, i in only_left.items()
        if text in only_right and gone[i] != new[only_right[text]]
    }
    kept = [
        (i, j) for i, j in pairs if _telling(left, i) or {(i - 1, j - 1), (i + 1, j + 1)} & pairs
    ]
    out = {}
    for i, j in kept:
        out[i, -1] = new[j]
        out[-1, j] = gone[i]
    return out


def _unique(places: Mapping[int, Place], body: Body) -> dict[str, int]:
    """Return text -> place, of texts that are there once."""
    seen: dict[str, list[int]] = {}
    for at in places:
        seen.setdefault(body.texts[at], []).append(at)
    return {text: at[0] for text, at in seen.items() if len(at) == 1}


def _telling(body: Body, place: int) -> bool:
    """Tell whether an instruction alone says enough to be known again."""
    done = body.deeds[place]
    if done.kind in (b.RETURN, b.CALL):
        return True
    if done.memory and not body.on_stack(place):
        return True
    return done.kind not in _COMMON and done.immediate not in (None, 0, 1, -1)
