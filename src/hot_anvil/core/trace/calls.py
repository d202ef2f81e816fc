"""The calls that have not returned yet, followed from step to step."""

from collections.abc import Mapping

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.trace.code_map import CodeMap, CodePlace
from hot_anvil.core.trace.moments import Going
from hot_anvil.core.trace.tape import Step


class Frame:
    """One call that has not returned yet."""

    def __init__(self, number: int, function: str, depth: int, entry: Mapping[str, int]) -> None:
        self.number, self.function, self.depth = number, function, depth
        self.entry = entry  # registers at its start
        # Of its variables, as they were seen last: bytes, and for each whether it is known.
        self.values: dict[int, tuple[bytes, bytes]] = {}
        self.active: tuple[object, ...] | None = None  # variables looked at last, None: anew
        self._passes: dict[int, int] = {}
        self._entered: dict[int, int] = {}
        self._inside: tuple[int, ...] = ()  # loops that the last step was in

    def count_pass(self, place: CodePlace) -> tuple[tuple[int, ...], tuple[int, ...]]:
        """Return the passes of the loops around a step, and how often each has been entered."""
        loop = place.begins
        if loop >= 0:
            again = loop in self._inside
            self._passes[loop] = self._passes.get(loop, 0) + 1 if again else 1
            self._entered[loop] = self._entered.get(loop, 0) + (not again)
        self._inside = place.loops
        passes, entered = self._passes, self._entered
        return (
            tuple(passes.get(one, 1) for one in place.loops),
            tuple(entered.get(one, 1) for one in place.loops),
        )


class Calls:
    """The stack of calls."""

    def __init__(self, code: CodeMap, stack: int) -> None:
        """Start empty; ``stack`` is the number of the stack's register."""
        self.code, self.stack = code, stack
        self.frames: list[Frame] = []
        self._made = 0

    @property
    def top(self) -> Frame:
        """The call that runs."""
        return self.frames[-1]

    def push(self, function: str, registers: Mapping[str, int], depth: int = -1) -> None:
        """Enter a function."""
        self._made += 1
        deep = depth if depth >= 0 else (self.top.depth + 1 if self.frames else 0)
        self.frames.append(Frame(self._made, function, deep, registers))

    def follow(
        self, place: CodePlace, then: int, step: Step, registers: Mapping[str, int]
    ) -> Going:
        """Go from a step to the next, at the address ``then`` (-1: there is none)."""
        started = self.code.starts.get(then, "")
        enters = self.code.title(started) if started else ""
        after = self.code.at(then) if then >= 0 else None
        if place.kind == b.CALL:
            return self._call(place, started, enters, registers)
        if place.kind == b.RETURN:
            if then >= 0 and then == place.following and self._holds_back(step):
                return Going()
            self._pop(None if started else after)
            if started:  # code beyond calls again before it comes back
                self.push(started, registers)
            return Going(returns=True, enters=enters)
        if then < 0:
            return Going(returns=place.kind == b.JUMP)
        if after and after.function != self.top.function:
            if started:  # a jump to another function takes the place of this one
                self.push(started, registers, self.frames.pop().depth)
                return Going(enters, enters)
            self._pop(after)
            return Going(returns=True)
        return Going()

    def _call(
        self, place: CodePlace, started: str, enters: str, registers: Mapping[str, int]
    ) -> Going:
        named = self.code.title(place.target.removesuffix("@plt"))
        if not named or named.startswith("."):
            named = enters or ("a library function" if named else "a function")
        if not started:
            return Going(named, comes_back=True)
        self.push(started, registers)
        return Going(named, enters)

    def _holds_back(self, step: Step) -> bool:
        """Tell whether a conditional return went on: it leaves the stack alone."""
        return not any(change.register == self.stack for change in step.changes)

    def _pop(self, after: CodePlace | None) -> None:
        if len(self.frames) > 1:
            self.frames.pop()
        while after and len(self.frames) > 1 and self.top.function != after.function:
            self.frames.pop()
        self.top.active = None  # what was called may have changed its variables
