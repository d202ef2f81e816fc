"""Find instructions that stand under another source line on the other side."""

from collections.abc import Callable, Mapping, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.spelling import shape
from hot_anvil.core.code.places import Place
from hot_anvil.core.model.control_flow import Body

_COMMON = (b.MOVE, b.PUSH, b.POP, b.JUMP, b.NOTHING)


def moved_between(
    left: Body, right: Body, found: Mapping[Place, Sequence[tuple[int, int]]]
) -> dict[tuple[int, int], Place]:
    """Return (place, -1) or (-1, place) -> the line that its counterpart stands under.

    Only what is without counterpart in its own line can have moved; its text,
    or else its shape, must be the same and the only one of it on either side, and either say
    enough to be known again or stand beside another that moved along.
    """
    gone = {i: place for place, two in found.items() for i, j in two if j < 0}
    new = {j: place for place, two in found.items() for i, j in two if i < 0}
    out: dict[tuple[int, int], Place] = {}
    for key in (_text, _shape):
        pairs = _pairs(_unique(gone, left, key), _unique(new, right, key), gone, new)
        for i, j in pairs:
            if _telling(left, i) or {(i - 1, j - 1), (i + 1, j + 1)} & pairs:
                out[i, -1] = new[j]
                out[-1, j] = gone[i]
        gone = {i: place for i, place in gone.items() if (i, -1) not in out}
        new = {j: place for j, place in new.items() if (-1, j) not in out}
    return out


def _pairs(
    only_left: Mapping[str, int],
    only_right: Mapping[str, int],
    gone: Mapping[int, Place],
    new: Mapping[int, Place],
) -> set[tuple[int, int]]:
    return {
        (i, only_right[text])
        for text, i in only_left.items()
        if text in only_right and gone[i] != new[only_right[text]]
    }


def _text(body: Body, place: int) -> str:
    return body.texts[place]


def _shape(body: Body, place: int) -> str:
    return shape(body.texts[place], body.isa)[0]


def _unique(
    places: Mapping[int, Place], body: Body, key: Callable[[Body, int], str]
) -> dict[str, int]:
    """Return text -> place, of texts that are there once."""
    seen: dict[str, list[int]] = {}
    for at in places:
        seen.setdefault(key(body, at), []).append(at)
    return {text: at[0] for text, at in seen.items() if len(at) == 1}


def _telling(body: Body, place: int) -> bool:
    """Tell whether an instruction alone says enough to be known again."""
    done = body.effects[place]
    if done.kind in (b.RETURN, b.CALL):
        return True
    if done.memory and not body.on_stack(place):
        return True
    return done.kind not in _COMMON and done.immediate not in (None, 0, 1, -1)
