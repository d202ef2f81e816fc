"""The workspace's checking of kernels, on the simulated device, beside a reference.

The reference is another kernel, or an ordinary function of the snippet that does the same. Values
are those that the bench asks for: what else a kernel could be launched with, nobody says.
"""

from collections.abc import Callable, Sequence
from typing import NamedTuple

from hot_anvil.core.arch.ptx.device.memory import Fault
from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.calling.protocol import Output
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.inputs.spec import own_sets
from hot_anvil.core.verify.agreement import first_difference, told_output
from hot_anvil.core.verify.crash_report import Place
from hot_anvil.core.verify.options import CheckOptions, Value
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.sanitizer_reports import Undefined
from hot_anvil.core.verify.verdicts import (
    CORRECT,
    CRASHED,
    HUNG,
    NOT_RUN,
    NOTHING_TO_COMPARE,
    UNDEFINED,
    WRONG,
    Verdict,
    candidate_name,
)
from hot_anvil.core.verify.verdicts import REFUSED as REFUSED_VERDICT
from hot_anvil.errors import RequestError
from hot_anvil.system.check.shrinking import Caller, Side, for_rival
from hot_anvil.usecases.entries import known_functions
from hot_anvil.usecases.kernels import (
    DEVICE,
    Made,
    fault_text,
    kernel_builds,
    launch,
    make_kernel,
    place_of,
    shape_for,
    signatures_of,
    values_for,
)
from hot_anvil.usecases.linking import link_builds
from hot_anvil.workspace import Workspace


class _Reference(NamedTuple):
    """What says what is right."""

    name: str  # the candidate
    signature: Signature
    call: Callable[[InputSet], Output | None]
    why: str  # it cannot be called, "" where it can


def check_kernels(workspace: Workspace, snippet: Snippet, options: CheckOptions) -> Checked:
    """Judge every kernel of a snippet under every build that makes PTX of it."""
    signatures = signatures_of(workspace, snippet)
    builds = kernel_builds(workspace, snippet)
    if not builds:
        raise RequestError(
            f"{workspace.bench.file}: snippet {snippet.name}: no compiler of the grid makes PTX of "
            "its kernels: name nvcc, or clang for it (clang-16@nvptx64)."
        )
    specs = own_sets(snippet)
    sets = [[values_for(workspace, snippet, s, spec) for spec in specs] for s in signatures]
    made = {
        (s.name, b.build.name): make_kernel(workspace, b, s) for s in signatures for b in builds
    }
    reference = _reference(workspace, snippet, signatures, builds, made, options.call_seconds)
    alone = len(signatures) == 1
    verdicts = []
    values: list[Value] = []
    undefined: list[Undefined] = []
    total = len(made)
    for number, one in enumerate(made.values()):
        workspace.progress(f"launching {snippet.name}", number, total)
        own = sets[signatures.index(one.signature)]
        judged = _Judged(workspace, snippet, one, reference, own, alone)
        verdicts.append(judged.verdict())
        known = {(u.entry, u.place) for u in undefined}
        undefined += [u for u in judged.undefined if (u.entry, u.place) not in known]
        if options.values:
            values += judged.values
    notes = (
        "kernels ran on a simulated device, with the bench's own values: it is no hardware and has "
        "no times (hot-anvil launch counts); approximate operations are more exact there.",
    )
    return Checked(
        snippet, signatures, reference.name, tuple(verdicts), notes, values=tuple(values),
        sets=tuple(map(tuple, sets)), undefined=tuple(undefined),
        not_sanitized="no sanitizer knows kernels; races on shared memory and accesses outside "
        "buffers were",
    )  # fmt: skip


def _reference(
    workspace: Workspace,
    snippet: Snippet,
    signatures: Sequence[Signature],
    builds: Sequence[Built],
    made: "dict[tuple[str, str], Made]",
    seconds: float,
) -> _Reference:
    kernels = {signature.name: signature for signature in signatures}
    name = snippet.reference or next(iter(snippet.entries), "") or signatures[0].name
    if name not in kernels:
        return _function(workspace, snippet, name, seconds)
    able = [b.build.name for b in builds if b.status == COMPILED]
    asked = workspace.plan.reference.name
    build = asked if asked in able else next(iter(able), builds[0].build.name)
    one = made[name, build]
    candidate = candidate_name(name, build, len(kernels) == 1)

    def call(inputs: InputSet) -> Output | None:
        shape = shape_for(workspace, snippet, one.signature, inputs)
        return launch(one, inputs, shape).output

    return _Reference(candidate, one.signature, call, one.why)


def _function(workspace: Workspace, snippet: Snippet, name: str, seconds: float) -> _Reference:
    """Return an ordinary function of the snippet as the reference."""
    built = [
        b for b in workspace.compile([snippet.name])
        if b.status == COMPILED and workspace.toolchain(b.build).can["run"]
    ]  # fmt: skip
    wanted = workspace.plan.reference
    built.sort(key=lambda b: b.build != wanted)
    found = [s for s in known_functions(workspace, snippet) if s.name == name] if built else []
    if not found:
        raise RequestError(
            f"{workspace.bench.file}: snippet {snippet.name}: the reference {name} is neither a "
            "kernel nor a function that a compiler of the grid makes run here."
        )
    build = built[0].build.name
    program = link_builds(workspace, built[:1], found, 0)[build]
    if program.why:
        return _Reference(f"{name}@{build}", found[0], lambda inputs: None, program.why)

    def call(inputs: InputSet) -> Output | None:
        caller = Caller(Side(program.path, 0, found[0]), workspace.bench.root, seconds)
        try:
            return caller.call(inputs).output
        finally:
            caller.close()

    return _Reference(f"{name}@{build}", found[0], call, "")


class _Judged:
    """One kernel of one build, launched on every input set."""

    def __init__(
        self,
        workspace: Workspace,
        snippet: Snippet,
        made: Made,
        reference: _Reference,
        sets: Sequence[InputSet],
        alone: bool,
    ) -> None:
        self.workspace, self.snippet, self.made = workspace, snippet, made
        self.reference, self.sets = reference, sets
        entry, build = made.signature.name, made.built.build.name
        self.blank = Verdict(
            snippet.name, entry, build, candidate_name(entry, build, alone), CORRECT, "", 0,
            emulator=DEVICE,
        )  # fmt: skip
        self.values: list[Value] = []
        self.undefined: list[Undefined] = []

    def verdict(self) -> Verdict:
        """Return what it is, by the first input set that shows it."""
        made, blank = self.made, self.blank
        if made.built.status != COMPILED:
            return blank._replace(verdict=REFUSED_VERDICT, why=made.why, emulator="")
        if made.why or self.reference.why:
            why = made.why or f"the reference {self.reference.name}: {self.reference.why}"
            return blank._replace(verdict=NOT_RUN, why=why, emulator="")
        races: dict[str, Place] = {}
        for inputs in self.sets:
            found = self._on(inputs, races)
            if found:
                suspects = tuple(f"{why} at {place.text}" for why, place in races.items())
                return found._replace(input_sets=len(self.sets), suspects=suspects)
        blank = blank._replace(input_sets=len(self.sets))
        for why, place in races.items():
            return blank._replace(verdict=UNDEFINED, why=why, place=place)
        if not any(parameter.writable for parameter in made.signature.parameters):
            return blank._replace(why=NOTHING_TO_COMPARE)
        return blank

    def _on(self, inputs: InputSet, races: dict[str, Place]) -> Verdict | None:
        shape = shape_for(self.workspace, self.snippet, self.made.signature, inputs)
        came = launch(self.made, inputs, shape)
        for race in came.launched.races:
            self._raced(race, inputs, races)
        fault = came.launched.fault
        blank = self.blank._replace(inputs=inputs.label)
        if fault:
            why = fault_text(fault, self.made)
            return blank._replace(verdict=CRASHED, why=why, place=place_of(self.made, fault.place))
        if came.launched.unknown:
            return blank._replace(verdict=NOT_RUN, why=came.launched.unknown)
        if came.output is None:
            return blank._replace(verdict=HUNG, why="it executes more than any launch may here")
        told = told_output(came.output, self.made.signature, inputs)
        self.values.append(Value(self.blank.candidate, inputs.label, told))
        other = for_rival(inputs, self.made.signature, self.reference.signature)
        if other is None:
            why = f"it takes other parameters than the reference {self.reference.name}"
            return blank._replace(verdict=NOT_RUN, why=why)
        expected = self.reference.call(other)
        if expected is None:
            why = f"the reference {self.reference.name} does not come back"
            return blank._replace(verdict=NOT_RUN, why=why)
        said, error = first_difference(
            self.reference.signature, expected, self.made.signature, came.output, inputs,
            self.snippet.tolerance,
        )  # fmt: skip
        return blank._replace(verdict=WRONG, why=said, error=error) if said else None

    def _raced(self, race: Fault, inputs: InputSet, races: dict[str, Place]) -> None:
        why, place = fault_text(race, self.made), place_of(self.made, race.place)
        if why not in races:
            races[why] = place
            build = f"{self.made.built.build.name} on the {DEVICE}"
            found = Undefined(
                self.made.signature.name, inputs.label, "", f"data race: {why}", place, build
            )
            self.undefined.append(found)
