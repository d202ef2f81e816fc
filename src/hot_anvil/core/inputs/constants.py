"""Numbers that code compares with: values at which it may turn another way."""

import re
from collections.abc import Iterable, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch import semantics_of
from hot_anvil.core.code.records import Function

_MOST = 24  # numbers tried; each with its neighbours
_TRIVIAL = (-1, 0, 1)  # that other edges have
_FLOAT = re.compile(
    r"(?<![\w.])(-?(?:\d+\.\d*|\.\d+|\d+(?=[eE]))(?:[eE][-+]?\d+)?)[fFlL]?(?![\w.])"
)
_COMMENT = re.compile(r"//[^\n]*|/\*.*?\*/|\"(?:\\.|[^\"\\\n])*\"", re.DOTALL)
_NUMBER = re.compile(
    r"(?<![\w.])(-?(?:0[xX][0-9a-fA-F']+|0[bB][01']+|\d[\d'_]*))(?:[uUlL]*|[iu]\d+)(?![\w.])|'([^'\\])'"
)


def in_code(functions: Iterable[Function], isa: str) -> list[int]:
    """Return the numbers that instructions compare with, in the order they stand.

    A range is tested by moving it to zero first: what is added then bounds it.
    """
    found: dict[int, None] = {}
    effect = semantics_of(isa).effect
    for function in functions:
        moved = 0
        for item in function.instructions:
            done = effect(item.mnemonic, item.operands)
            number = None if done.packed else done.immediate
            if done.kind in (b.COMPARE, b.BRANCH) and number is not None:
                found |= dict.fromkeys([number, number + moved, moved] if moved else [number])
            by = done.memory.offset if done.kind == b.ADDRESS and done.memory else number
            shifts = done.kind in (b.ADD, b.SUB, b.ADDRESS) and by is not None
            moved = (by or 0) * (1 if done.kind == b.SUB else -1) if shifts else 0
    return list(found)


def in_source(text: str) -> list[int]:
    """Return the whole numbers and characters that a source names, comments and texts left out."""
    found: dict[int, None] = {}
    for number, character in _NUMBER.findall(_COMMENT.sub(" ", text)):
        if character:
            found[ord(character)] = None
            continue
        digits = number.replace("'", "").replace("_", "")
        octal = re.fullmatch(r"-?0[0-7]+", digits)
        try:
            found[int(digits, 8 if octal else 0)] = None
        except ValueError:
            continue
    return list(found)


def floats_in_source(text: str) -> list[float]:
    """Return the numbers with a fraction or an exponent that a source names."""
    return [float(number) for number in _FLOAT.findall(_COMMENT.sub(" ", text))]


def with_neighbours(numbers: Sequence[int | float]) -> tuple[int | float, ...]:
    """Return the first of these numbers, whole ones each with the one below and above."""
    telling = [n for n in dict.fromkeys(numbers) if n not in _TRIVIAL][:_MOST]
    return tuple(
        dict.fromkeys(
            value
            for n in telling
            for value in ((n,) if isinstance(n, float) else (n, n - 1, n + 1))
        )
    )
