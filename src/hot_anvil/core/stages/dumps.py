"""A stream of LLVM's dumps as the stages of one function: each pass, and what it left behind."""

import re
from collections.abc import Iterable

from hot_anvil.core.stages import llvm, machine
from hot_anvil.core.stages.records import Body, Stage

START = "start"
_HEADER = re.compile(
    r"\*\*\* IR (?:Dump|Pass) (?:(At Start)|(Before|After) (.+) on (.+?)|(.+) invalidated) ?\*\*\*$"
)
_SILENT = re.compile(r" (?:filtered out|ignored)$")
_UNCHANGED = re.compile(r" omitted because no change$")
_SHORT = re.compile(r".*\(([\w-]+)\)$")


class Reader:
    """Reads dumps of the whole module, of which it holds one function."""

    def __init__(self, symbol: str) -> None:
        self.symbol = symbol
        self.stages: list[Stage] = []
        self._runs: dict[str, int] = {}
        self._passed: list[str] = []
        self._silent: list[str] = []  # passes that took away what they worked on, without a dump
        self._name = ""  # of the pass whose dump is being read, "" between dumps
        self._before = False  # it is the state that the pass found
        self._own: list[str] = []
        self._inside = False
        self._machine = False

    def take(self, lines: Iterable[str]) -> None:
        """Read a stream to its end."""
        for line in lines:
            if line.startswith("*** IR ") and (found := _HEADER.match(line.rstrip())):
                self._end()
                self._begin(found)
            elif self._name:
                self._line(line)
        self._end()

    def _begin(self, found: "re.Match[str]") -> None:
        start, when, name, subject, invalidated = found.groups()
        if start:
            self._name = START
            return
        if invalidated:
            if "PassManager" not in invalidated and "Adaptor" not in invalidated:
                self._silent.append(self._numbered(_plain(invalidated)))
            return
        self._before = when == "Before"
        if self._before:
            self._name = "" if self._of_others(subject) else "before"
            return
        if _SILENT.search(subject) or self._of_others(subject):
            return
        name = self._numbered(_plain(name))
        if _UNCHANGED.search(subject):
            self._passed.append(name)
        else:
            self._name = name

    def _of_others(self, subject: str) -> bool:
        """Tell whether a pass ran on functions of which ours is none."""
        group = re.match(r"\((.*?)\)", subject)
        return bool(group) and self.symbol not in re.split(r", ", group[1] if group else "")

    def _numbered(self, name: str) -> str:
        self._runs[name] = self._runs.get(name, 0) + 1
        return name if self._runs[name] == 1 else f"{name}.{self._runs[name]}"

    def _line(self, line: str) -> None:
        if line.startswith("# Machine code for function"):
            self._machine = line.split()[5].rstrip(":") == self.symbol
            return
        if self._machine or line.startswith("!"):
            self._own.append(line)
        elif self._inside:
            self._own.append(line)
            self._inside = not line.startswith("}")
        elif line.startswith("define ") and (
            f"@{self.symbol}(" in line or f'@"{self.symbol}"(' in line
        ):
            self._own.append(line)
            self._inside = True

    def _end(self) -> None:
        body = self._body() if self._name else None
        last = self.stages[-1].body if self.stages else None
        if body is not None and not (last and last.holds_the_same(body)):
            silent = " or ".join(dict.fromkeys(self._silent)) or "a pass without a dump"
            name = silent if self._before else self._name
            self.stages.append(Stage(name, body, tuple(self._passed)))
            self._passed, self._silent = [], []
        elif self._name and not self._before:
            self._passed.append(self._name)
        self._before = False
        self._name, self._own, self._inside, self._machine = "", [], False, False

    def _body(self) -> Body | None:
        if self._machine:
            return machine.read_function(self.symbol, self._own)
        return next(llvm.read_functions(self._own, self.symbol), None)


def _plain(name: str) -> str:
    short = _SHORT.match(name)
    if short:
        return short[1]
    return re.sub(r"<.*", "", name).rpartition("::")[2].removesuffix("Pass")
