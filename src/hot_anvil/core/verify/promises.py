"""Promises that a source makes to the compiler, which no compiler proves."""

import re
from collections.abc import Collection, Iterable, Sequence
from typing import NamedTuple

from hot_anvil.core.verify.crash_report import Place


class Promise(NamedTuple):
    """One promise, as it stands in the source."""

    place: Place
    word: str  # as the source spells it
    means: str  # what is not true of the code is undefined, or computed wrong
    of_loop: bool  # about how far apart the passes of a loop reach memory


_APART = "no pass of the loop needs what another pass writes"
_ALONE = "nothing else reaches what is written through it"
_ATTRIBUTE = r"(?:__attribute__\s*\(\(|\[\[\s*gnu::|,)\s*"
_LOOPS = (
    (r"#\s*pragma\s+(?:GCC\s+)?ivdep\b|!(?:DIR|GCC|DEC)\$\s*IVDEP\b", "ivdep", _APART),
    (r"#\s*pragma\s+clang\s+loop\b.*\bassume_safety\b", "assume_safety", _APART),
    (r"#\s*pragma\s+omp\s+(?:\w+\s+)*simd\b|!\$OMP\s+(?:\w+\s+)*SIMD\b", "omp simd", _APART),
    (r"\b(?:__)?restrict(?:__)?\b", "restrict", _ALONE),
)
_OTHERS = (
    (r"\b__builtin_assume\s*\(|\[\[\s*(?:gnu::)?assume\b|__attribute__\s*\(\(\s*(?:__)?assume(?:__)?\b"
     r"|\bassert_unchecked\b", "assume", "what it says is always true"),
    (r"\b__builtin_unreachable\s*\(|\bunreachable(?:_unchecked)?\s*\(\s*\)", "unreachable",
     "this point is never reached"),
    (r"\bassume_aligned\b", "assume_aligned", "the address is a multiple of what it says"),
    (rf"{_ATTRIBUTE}(?:__)?const(?:__)?\s*[,)\]]", "const function",
     "its result depends on its arguments only"),
    (rf"{_ATTRIBUTE}(?:__)?pure(?:__)?\s*[,)\]]", "pure function",
     "it changes nothing, and its result depends on arguments and memory only"),
    (r"\bnoexcept\b(?!\s*\(\s*false)|(?:__)?\bnothrow\b", "noexcept", "no exception leaves it"),
    (r"\b(?:returns_)?nonnull\b|\bget_unchecked(?:_mut)?\b", "no check",
     "the pointer, or the place, is there"),
)  # fmt: skip
_KINDS = [
    *((re.compile(p, re.IGNORECASE), word, means, True) for p, word, means in _LOOPS),
    *((re.compile(p), word, means, False) for p, word, means in _OTHERS),
]
_ATTRIBUTE_WORD = re.compile(r"(?:__)?(?:const|pure)(?:__)?")
_ATTRIBUTES = ("const function", "pure function")
_BEFORE = 3  # lines from a promise to the function that it is about
REMOVABLE = ("ivdep", "assume_safety", "omp simd", "restrict", *_ATTRIBUTES)
_QUOTED = re.compile(r"/\*.*?\*/|//.*|\"(?:\\.|[^\"\\])*\"")


def promises_in(file: str, lines: Iterable[str]) -> list[Promise]:
    """Return the promises of a source, in the order they stand; one of a kind for each line."""
    out = []
    inside = False  # a comment over several lines
    for number, line in enumerate(lines, 1):
        if inside:
            _, ended, line = line.partition("*/")
            if not ended:
                continue
        line = _QUOTED.sub(" ", line)
        line, opened, _ = line.partition("/*")
        inside = bool(opened)
        for pattern, word, means, of_loop in _KINDS:
            if pattern.search(line):
                out.append(Promise(Place(file, number), word, means, of_loop))
    return out


def near_code(
    promises: Iterable[Promise], lines: Collection[tuple[str, int]]
) -> tuple[Promise, ...]:
    """Return the promises that stand at, or just before, one of these lines of code."""
    return tuple(
        p
        for p in promises
        if any((p.place.file, p.place.line + more) in lines for more in range(_BEFORE))
    )


def without_promise(lines: Sequence[str], promise: Promise) -> str:
    """Return the source without one promise, REMOVABLE; its lines keep their numbers."""
    pattern = next(p for p, word, *_ in _KINDS if word == promise.word)
    at = promise.place.line - 1
    line = lines[at]
    if promise.word in _ATTRIBUTES:  # one word of a list, which may be empty
        kept = pattern.sub(lambda found: _ATTRIBUTE_WORD.sub("", found[0]), line)
    elif line.lstrip().startswith(("#", "!")):
        kept = ""  # a directive goes as a whole: half of one means something else
    else:
        kept = pattern.sub("", line)
    return "\n".join([*lines[:at], kept, *lines[at + 1 :]])


def in_words(promises: Sequence[Promise], most: int = 4) -> str:
    """Return promises in one sentence, those of one kind together."""
    kinds: dict[tuple[str, str], list[Place]] = {}
    for promise in promises:
        kinds.setdefault((promise.word, promise.means), []).append(promise.place)
    told = []
    for (word, means), places in kinds.items():
        shown = ", ".join(place.text for place in places[:most])
        rest = f" and {len(places) - most} more" if len(places) > most else ""
        told.append(f"{word} ({means}) at {shown}{rest}")
    return "; ".join(told)
