"""Variables wider than a processor's registers, told once a line is done with them.

There they change byte by byte, and what they hold in between is no value of the source.
"""

from collections.abc import Iterable, Iterator

from hot_anvil.core.trace.moments import MEMORY, Moment, Setting

_MOST = 4096  # steps of one line that are looked at together


def settled(moments: Iterable[Moment], word: int) -> Iterator[Moment]:
    """Give moments with changes of what is wider than ``word`` bytes at the last step of a line."""
    held: list[Moment] = []
    for moment in moments:
        if held and (_line(held[-1]) != _line(moment) or len(held) == _MOST):
            yield from _joined(held, word)
            held = []
        held.append(moment)
    yield from _joined(held, word)


def _line(moment: Moment) -> tuple[int, str, int]:
    return moment.frame, moment.place.file, moment.place.line


def _joined(held: list[Moment], word: int) -> Iterator[Moment]:
    first: dict[tuple[int, str], Setting] = {}
    last: dict[tuple[int, str], tuple[int, Setting]] = {}
    for number, moment in enumerate(held):
        for setting in moment.settings:
            if _is_wide(setting, word):
                first.setdefault((setting.frame, setting.name), setting)
                last[setting.frame, setting.name] = number, setting
    for number, moment in enumerate(held):
        kept = []
        for setting in moment.settings:
            key = setting.frame, setting.name
            if not _is_wide(setting, word):
                kept.append(setting)
            elif last[key] == (number, setting):
                before = first[key].before
                if before != setting.after or setting.whose != "variable":
                    kept.append(setting._replace(before=before))
        yield moment._replace(settings=tuple(kept))


def _is_wide(setting: Setting, word: int) -> bool:
    return setting.whose != MEMORY and len(setting.data) > word
