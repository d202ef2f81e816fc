"""Moving through a recorded call, forward and back."""

from collections import deque
from collections.abc import Callable, Iterator

from hot_anvil.core.trace.moments import Moment
from hot_anvil.core.trace.records import Stepped
from hot_anvil.core.trace.selection import sets
from hot_anvil.core.trace.walk import Walk

_KEPT = 4096  # steps behind the last one seen that can be gone back to without starting anew


class Viewing:
    """A place in a recorded call. Going back is free near where one was, else it starts anew."""

    def __init__(self, stepped: Stepped) -> None:
        """Begin before the first step."""
        self.stepped = stepped
        self.count = stepped.tape.count
        self._begin()

    def _begin(self) -> None:
        self.walk: Walk = self.stepped.walk()
        self._ahead: Iterator[Moment] = self.stepped.moments(self.walk)
        self._behind: deque[Moment] = deque(maxlen=_KEPT)

    def at(self, number: int) -> Moment:
        """Return a step by its number, the nearest where there is none such."""
        number = max(1, min(number, self.count))
        if self._behind and number < self._behind[0].step.number:
            self._begin()
        while not self._behind or self._behind[-1].step.number < number:
            moment = next(self._ahead, None)
            if moment is None:
                break
            self._behind.append(moment)
        back = self._behind[-1].step.number - number
        return self._behind[-1 - max(back, 0)] if back < len(self._behind) else self._behind[0]

    def find(self, word: str, number: int, forward: bool) -> int:
        """Return the next step after ``number``, or the last before it, that a word names.

        A number is a source line that is come to, another word a variable that is set. 0: none.
        """
        wanted = self._on_line(int(word)) if word.isdigit() else self._that_sets(word)
        return self._search(wanted, number, forward)

    def next_pass(self, number: int, forward: bool) -> int:
        """Return the next step after ``number``, or the last before it, that begins a pass."""
        return self._search(lambda before, moment: moment.place.begins >= 0, number, forward)

    def _search(
        self, wanted: "Callable[[Moment | None, Moment], bool]", number: int, forward: bool
    ) -> int:
        last: Moment | None = None
        found = 0
        for moment in self.stepped.moments():
            here = moment.step.number
            if not forward and here >= number:
                return found
            if (here > number or not forward) and wanted(last, moment):
                found = here
                if forward:
                    return found
            last = moment
        return found

    @staticmethod
    def _on_line(line: int) -> "Callable[[Moment | None, Moment], bool]":
        def wanted(before: Moment | None, moment: Moment) -> bool:
            come_to = before is None or before.place.line != line or moment.place.begins >= 0
            return moment.place.line == line and come_to

        return wanted

    @staticmethod
    def _that_sets(name: str) -> "Callable[[Moment | None, Moment], bool]":
        return lambda before, moment: any(sets(name, moment))
