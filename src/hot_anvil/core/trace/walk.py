"""A record told instruction by instruction: source line, depth, pass, variables and memory by name.

What stands on the tape is addresses and numbers; here it is put beside the code and the variables
of the source. What no debug info names keeps its address.
"""

from collections.abc import Iterator

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch import state_of
from hot_anvil.core.trace.calls import Calls
from hot_anvil.core.trace.code_map import CodeMap, CodePlace
from hot_anvil.core.trace.moments import Known, Moment, Setting
from hot_anvil.core.trace.named import Variables
from hot_anvil.core.trace.regions import Regions
from hot_anvil.core.trace.tape import Access, Change, Step, Tape


class Walk:
    """Goes through a tape once, from its start."""

    def __init__(self, tape: Tape, code: CodeMap, known: Known, named: bool = True) -> None:
        """Prepare; without ``named`` nothing is told of variables and memory."""
        self.tape, self.code, self.known, self.named = tape, code, known, named
        self.state = state_of(code.isa)
        self.names = [register.name for register in tape.registers]
        self.stack = self.names.index(self.state.stack(known.bits))  # number of its register
        self.registers = list(tape.first)
        self.calls = Calls(code, self.stack)
        self.regions = Regions(known, tape.base, tape.first[self.stack])
        self.variables = Variables(
            known, code, self.state, tape.registers, self.registers, self.regions
        )

    def moments(self) -> Iterator[Moment]:
        """Give the steps, told."""
        steps = self.tape.steps()
        held = next(steps, None)
        if held is None:
            return
        step, _ = held
        first = self.code.at(step.address)
        self.calls.push(first.function if first else self.known.entry, self._by_name())
        if first and self.named:
            self.variables.look(self.calls.top, first.offset, None, ())
        while True:
            following = next(steps, None)
            for change in step.changes:
                self.registers[change.register] = change.after
            place = self.code.at(step.address)
            if place:
                yield self._moment(step, place, following[0].address if following else -1)
            if following is None:
                return
            step, _ = following

    def _by_name(self) -> dict[str, int]:
        return dict(zip(self.names, self.registers, strict=True))

    def _moment(self, step: Step, place: CodePlace, then: int) -> Moment:
        frame = self.calls.top
        passes, entered = frame.count_pass(place)
        own: list[Setting] = []
        others: list[Access] = []
        # What a call stores before it comes back is that of code beyond, but for where it returns.
        beyond = step.beyond or place.kind == b.CALL
        if self.named:
            own, others = self.regions.take(step.accesses, beyond)
        going = self.calls.follow(place, then, step, self._by_name() if place.leaves else {})
        after = self.code.at(then) if then >= 0 else None
        if after and self.named:
            own += self.variables.look(self.calls.top, after.offset, step, others)
        taken = None
        if place.kind in (b.BRANCH, b.SKIP) and then >= 0:
            taken = then != place.following
        return Moment(
            step, place, frame.depth, frame.number, passes, entered, tuple(own), going, taken
        )

    def register_text(self, change: Change) -> tuple[str, str, str]:
        """Return (name, before, after) of a register that a step changed, in words."""
        register = self.tape.registers[change.register]
        if register.name == self.state.flags:
            flags = self.state.flag_text
            return register.name, flags(change.before), flags(change.after)
        name = self.state.called(register.name, max(change.before, change.after))
        told = self.regions.in_register
        return name, told(change.before, register.bits), told(change.after, register.bits)

    def shown_variables(self) -> list[tuple[str, str, str]]:
        """Return (name, type, value) of the variables of the function that runs, as known now."""
        return self.variables.shown(self.calls.top) if self.calls.frames else []
