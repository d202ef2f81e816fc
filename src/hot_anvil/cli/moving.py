"""``step --interactive``: moving through a recorded call with a pager's keys."""

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    from hot_anvil.cli.output import Output
    from hot_anvil.core.trace.viewing import Viewing
    from hot_anvil.views.text.step import Sources, Spell

_MANY = 10  # steps at once
_HELP = (
    "j or Enter: next step    k: step back    f or Space: ten on    b: ten back",
    "g: first step    G: last    12g: step 12    ]: next pass of a loop    [: pass before",
    "/sum: next step that sets 'sum'    /28: next time at line 28    n: again    N: again, back",
    "v: the variables now    h: these keys    q: leave",
)
_ARROWS = {"[A": "k", "[B": "j", "[5": "b", "[6": "f", "[H": "g", "[F": "G"}


def refuse_without_terminal() -> None:
    """Raise RequestError where nobody could press a key."""
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise RequestError(
            "--interactive needs a terminal for input and output. Without it, step prints the "
            "steps."
        )


def move(viewing: "Viewing", out: "Output", sources: "Sources", spell: "Spell") -> None:
    """Show steps as keys ask for them, until one leaves."""
    with _keys() as keys:
        _Moving(viewing, out, sources, spell).run(keys)


@contextmanager
def _keys() -> Iterator[Iterator[str]]:
    """Give the keys that are pressed, one by one, unseen; the terminal is put back behind."""
    import termios
    import tty

    descriptor = sys.stdin.fileno()
    before = termios.tcgetattr(descriptor)

    def read() -> Iterator[str]:
        while data := os.read(descriptor, 1):
            key = data.decode(errors="replace")
            if key == "\x1b":
                key = _ARROWS.get(os.read(descriptor, 2).decode(errors="replace"), "")
            yield key

    try:
        tty.setcbreak(descriptor)
        yield read()
    finally:
        termios.tcsetattr(descriptor, termios.TCSADRAIN, before)


class _Moving:
    def __init__(
        self, viewing: "Viewing", out: "Output", sources: "Sources", spell: "Spell"
    ) -> None:
        self.viewing, self.out, self.sources, self.spell = viewing, out, sources, spell
        self.number = 0
        self.typed = ""  # digits before a key
        self.word = ""  # that was last looked for

    def run(self, keys: Iterator[str]) -> None:
        self._say("h shows the keys")
        self._to(1)
        for key in keys:
            self._prompt("")
            if key in ("q", "Q", "\x04"):
                return
            if key.isdigit():
                self.typed += key
                self._prompt(self.typed)
                continue
            self._press(key, keys)
            self.typed = ""

    def _press(self, key: str, keys: Iterator[str]) -> None:
        times = int(self.typed or 1)
        if key in ("j", "e", "\n", "\r"):
            self._run_to(self.number + times)
        elif key in ("k", "y"):
            self._to(self.number - times)
        elif key in ("f", " "):
            self._run_to(self.number + _MANY)
        elif key == "b":
            self._to(self.number - _MANY)
        elif key == "g":
            self._to(times)
        elif key == "G":
            self._to(int(self.typed) if self.typed else self.viewing.count)
        elif key in "[]":
            self._found(
                self.viewing.next_pass(self.number, key == "]"), "no other pass of a loop that way"
            )
        elif key == "/":
            self.word = self._line(keys)
            self._look(forward=True)
        elif key in "nN":
            self._look(forward=key == "n")
        elif key == "v":
            self._variables()
        elif key in "hH?":
            self._say(*_HELP)
        else:
            self._say(f"no such key; {_HELP[-1]}")

    def _look(self, forward: bool) -> None:
        if not self.word:
            self._say("look for what? /sum: a variable, /28: a line")
            return
        found = self.viewing.find(self.word, self.number, forward)
        what = f"is at line {self.word}" if self.word.isdigit() else f"sets '{self.word}'"
        self._found(found, f"no step {'further on' if forward else 'before'} {what}")

    def _found(self, number: int, without: str) -> None:
        if number:
            self._to(number)
        else:
            self._say(without)

    def _line(self, keys: Iterator[str]) -> str:
        """Return what is typed up to Enter, shown while it is typed."""
        text = ""
        self._prompt("/")
        for key in keys:
            if key in ("\n", "\r"):
                break
            text = text[:-1] if key in ("\x7f", "\b") else text + key
            self._prompt(f"/{text}")
        self._prompt("")
        return text.strip()

    def _run_to(self, number: int) -> None:
        """Show every step up to one."""
        last = min(number, self.viewing.count)
        if self.number >= self.viewing.count:
            self._say("this is the last step")
            return
        self._show(range(self.number + 1, last + 1))

    def _to(self, number: int) -> None:
        """Show one step."""
        if number < 1 and self.number == 1:
            self._say("this is the first step")
            return
        number = max(1, min(number, self.viewing.count))
        self._show(range(number, number + 1), fresh=True)

    def _show(self, numbers: range, fresh: bool = False) -> None:
        from hot_anvil.views.text.report import Report
        from hot_anvil.views.text.step import Steps

        report = Report(self.out.width)
        stepped = self.viewing.stepped
        before = self.viewing.at(numbers[0] - 1) if numbers[0] > 1 and not fresh else None
        moments = [self.viewing.at(number) for number in numbers]
        steps = Steps(report, stepped, self.viewing.walk, self.sources, self.spell)
        steps.go_on_from(before if before else moments[0], known=before is not None)
        steps.add(moments)
        self.number = numbers[-1]
        self.out.show(report)
        self._prompt("")

    def _variables(self) -> None:
        from hot_anvil.views.text.report import DIM, Cell, Report, Span

        report = Report(self.out.width)
        rows: list[list[Cell]] = [
            [name, Span(kind, DIM), value] for name, kind, value in self._visible()
        ]
        if rows:
            report.table(("variable", "type", "value"), rows, "lll", indent=4)
        else:
            report.add("    ", Span("no variable is known here", DIM))
        self.out.show(report)
        self._prompt("")

    def _visible(self) -> list[tuple[str, str, str]]:
        """Return the variables after the step that is shown."""
        walk = self.viewing.stepped.walk()
        moments = self.viewing.stepped.moments(walk)
        for moment in moments:
            if moment.step.number >= self.number:
                break
        return walk.shown_variables()

    def _prompt(self, text: str) -> None:
        shown = f"step {self.number} of {self.viewing.count}: {text}"
        sys.stdout.write(f"\r\x1b[K{shown}")
        sys.stdout.flush()

    def _say(self, *lines: str) -> None:
        from hot_anvil.views.text.report import DIM, Report

        report = Report(self.out.width)
        for line in lines:
            report.paragraph(line, DIM, 2)
        self.out.show(report)
        self._prompt("")
