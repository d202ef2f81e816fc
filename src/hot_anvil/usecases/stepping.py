"""The workspace's stepping through calls."""

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from hot_anvil.core.arch import image_kind_of
from hot_anvil.core.binary.elf import function_span, machine_of, symbol_addresses
from hot_anvil.core.binary.locations import FunctionLocals
from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.binary.variables import initial_bytes
from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import Built
from hot_anvil.core.calling.protocol import lay_out
from hot_anvil.core.config.records import Snippet, find_snippets
from hot_anvil.core.inputs.input_sets import InputSet, fitting, make_input_set
from hot_anvil.core.inputs.spec import spec_of_size
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.trace.code_map import map_code
from hot_anvil.core.trace.moments import Known, buffers_of
from hot_anvil.core.trace.records import Stepped
from hot_anvil.core.trace.tape import Tape
from hot_anvil.core.verify.agreement import first_difference, told_inputs, told_output
from hot_anvil.core.verify.verdicts import candidate_name
from hot_anvil.errors import FaultError, RequestError
from hot_anvil.system.build.frames import load_locals
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.build.linking import Program
from hot_anvil.system.check.checking import read_files
from hot_anvil.system.check.follow_up import load_inputs
from hot_anvil.system.check.shrinking import Called, Caller, Side, for_rival
from hot_anvil.system.execute.calls import LAYOUTS, line_finder, placed_in
from hot_anvil.system.measure.sampling import program_code
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.trace.recording import Recorder, Traced, recorder_of
from hot_anvil.usecases.comparison import side_named
from hot_anvil.usecases.entries import find_callable, known_functions, lasting_variables
from hot_anvil.usecases.kernels import is_kernels
from hot_anvil.usecases.linking import link_builds
from hot_anvil.workspace import Workspace, usecase

MOST_STEPS = 1_000_000
MOST_SIDES = 2
_DATA_MASK = 0xFFFF  # of addresses of a chip's data


class Wanted(NamedTuple):
    """Which call to step through."""

    size: str = ""  # label of a sweep point, "" for the first
    replay: str = ""  # name of an input set that a check kept, "" for none
    most: int = MOST_STEPS
    call_seconds: float = 5.0


class _Call(NamedTuple):
    """One candidate, with the values of its call."""

    snippet: Snippet
    built: Built
    number: int  # of the entry
    signatures: tuple[Signature, ...]
    inputs: InputSet
    label: str
    layout: int
    program: Program

    @property
    def signature(self) -> Signature:
        """The entry's."""
        return self.signatures[self.number]


@usecase
def step_calls(
    workspace: Workspace,
    names: Sequence[str],
    snippets: Sequence[str] = (),
    entry: str = "",
    wanted: Wanted = Wanted(),  # noqa: B008 - immutable
) -> tuple[Stepped, ...]:
    """Step through the same call of each candidate named, by BUILD or ENTRY@BUILD.

    Raises RequestError where it is not one call, MissingError where nothing here steps through it.
    """
    calls = _calls(workspace, names, snippets, entry, wanted)
    return tuple(_step(workspace, one, wanted) for one in calls)


def _calls(
    workspace: Workspace,
    names: Sequence[str],
    snippets: Sequence[str],
    entry: str,
    wanted: Wanted,
) -> list[_Call]:
    kept = _kept(workspace, wanted.replay) if wanted.replay else None
    if kept:
        snippets = [kept["snippet"]]
        names = names or _failing_pair(workspace, kept, wanted)
    names = names or _only_builds(workspace)
    sides = [side_named(workspace, name) for name in names]
    snippet = _snippet(workspace, snippets, [own or entry for own, _ in sides])
    builds = list(dict.fromkeys(build for _, build in sides))
    compiled = {b.build: b for b in workspace.compile([snippet.name], builds)}
    signatures = _signatures(workspace, snippet)
    programs = link_builds(workspace, list(compiled.values()), signatures, 0)
    out: list[_Call] = []
    for name, (own, build) in zip(names, sides, strict=True):
        built = compiled.get(build)
        if built is None:
            raise RequestError(f"{build.name} does not take part in snippet {snippet.name}.")
        program = programs.get(build.name)
        if program is None or program.why:
            why = program.why if program else built.why
            raise RequestError(f"{name} cannot be called here: {why}.")
        chosen = own or entry or _kept_entry(kept, build)
        number = _entry(signatures, chosen, snippet)
        signature = signatures[number]
        if kept:
            giver = signatures[_entry(signatures, kept["entry"], snippet)]
            given, label, layout = kept["inputs"], kept["label"], kept["layout"]
        else:
            giver = out[0].signature if out else signature
            label, given = _inputs(workspace, snippet, giver, wanted.size)
            layout = 0
        inputs = for_rival(given, giver, signature)
        if inputs is None:
            raise RequestError(
                f"{name} takes other parameters than {names[0]}: no call is the same."
            )
        there = program.there[number] if program.there else None
        if there and not fitting(signature, there, [inputs]):
            raise RequestError(f"{name}: the values {label} are none of its machine's types.")
        out.append(_Call(snippet, built, number, signatures, inputs, label, layout, program))
    return out


def _signatures(workspace: Workspace, snippet: Snippet) -> tuple[Signature, ...]:
    """Return the functions that can be called: beside kernels, what is theirs as a reference."""
    if is_kernels(snippet):
        return tuple(s for s in known_functions(workspace, snippet) if s.name in snippet.entries)
    return find_callable(workspace, snippet).signatures


def _only_builds(workspace: Workspace) -> list[str]:
    """Return the builds to step through where none is named."""
    known = [build.name for build in workspace.plan.builds]
    if len(known) > MOST_SIDES:
        raise RequestError(
            f"step shows one build, or two: name it after PATH. The builds are: {listed(known)}."
        )
    return known


def _kept(workspace: Workspace, name: str) -> dict[str, Any]:
    kept = load_inputs(workspace.store, name)
    if kept is None:
        raise RequestError(
            f"no input set is kept under '{name}'. A check keeps one for each candidate that "
            "fails, and names it.",
            about="replay",
        )
    return kept


def _failing_pair(workspace: Workspace, kept: Mapping[str, Any], wanted: Wanted) -> list[str]:
    """Return a candidate that a check found to fail, after one that is right.

    That is the same entry under the reference's build, where it gives what the reference gives: the
    same source then stands on both sides. Where it fails alike there, that build's code is told,
    which is as the source is written.
    """
    reference = f"{kept['reference_entry']}@{kept['reference_build']}"
    same = f"{kept['entry']}@{kept['reference_build']}"
    failing = f"{kept['entry']}@{kept['build']}"
    if same in (failing, reference):
        return [reference, failing]
    one, other = _calls(workspace, [reference, same], [], "", wanted)
    expected, got = (_plainly(workspace, call, wanted).output for call in (one, other))
    if expected is None or got is None:
        return [reference, failing]
    tolerance = one.snippet.tolerance
    said, _ = first_difference(
        one.signature, expected, other.signature, got, other.inputs, tolerance
    )
    if not said:
        return [same, failing]
    (call,) = _calls(workspace, [failing], [], "", wanted)
    return [reference, same if _plainly(workspace, call, wanted).output == got else failing]


def _kept_entry(kept: Mapping[str, Any] | None, build: Build) -> str:
    if kept is None:
        return ""
    return str(kept["entry"] if build.name == kept["build"] else kept["reference_entry"])


def _snippet(workspace: Workspace, snippets: Sequence[str], entries: Sequence[str]) -> Snippet:
    """Return the one snippet that is meant."""
    chosen = [s for s in find_snippets(workspace.bench, snippets) if not s.program]
    named = [entry for entry in entries if entry]
    if len(chosen) > 1 and named:
        known = [entry for snippet in chosen for entry in snippet.entries]
        chosen = [s for s in chosen if {*named} & {*s.entries}]
        if not chosen:
            raise RequestError(
                f"{named[0]}: no snippet names such an entry.{did_you_mean(named[0], known)} "
                f"The entries are: {listed(known)}.",
                about="entries",
            )
    if len(chosen) == 1:
        return chosen[0]
    if not chosen:
        raise RequestError(
            "step goes through one call of an entry, and there is none: a whole program has no "
            "entries."
        )
    raise RequestError(
        "step goes through one call: say of which snippet with --snippet, or which entry. The "
        f"snippets are: {listed(s.name for s in chosen)}."
    )


def _entry(signatures: Sequence[Signature], name: str, snippet: Snippet) -> int:
    known = [signature.name for signature in signatures]
    if not name and len(known) == 1:
        return 0
    if name in known:
        return known.index(name)
    said = (
        f"{name}: snippet {snippet.name} has no such entry.{did_you_mean(name, known)} "
        if name
        else ""
    )
    raise RequestError(f"{said}Say which entry to step through: {listed(known)}.", about="entries")


def _inputs(
    workspace: Workspace, snippet: Snippet, signature: Signature, size: str
) -> tuple[str, InputSet]:
    spec = spec_of_size(snippet, size)
    files = read_files(workspace.bench, snippet)
    return spec.label, make_input_set(workspace.bench, snippet, signature, spec, files)


def _step(workspace: Workspace, call: _Call, wanted: Wanted) -> Stepped:
    snippet, built, signature = call.snippet, call.built, call.signature
    root = workspace.bench.root
    chain = workspace.toolchain(built.build)
    host = host_toolchain(workspace.found.toolchains)
    path = call.program.path
    code = workspace.code(built)
    owners = {function.owner for function in code.functions}
    names = owners | {owner.partition(".")[0] for owner in owners}
    within = function_span(Path(path).read_bytes(), names)
    program = program_code(path, chain, workspace.store, within)
    made = map_code(program._replace(titles=code.titles), owners, line_finder(path, root))
    workspace.progress(f"stepping through {signature.name}@{built.build.name}", 0, 0)
    plain = _plainly(workspace, call, wanted)
    if plain.output is None and not plain.ending:
        raise RequestError(f"{signature.name}@{built.build.name}: {plain.why}: {call.label}.")
    laid = lay_out(call.number, call.inputs)
    traced = Traced(path, signature.symbol, made, laid, LAYOUTS[call.layout], wanted.most)
    addresses = symbol_addresses(Path(path).read_bytes())
    recorder = recorder_of(traced, chain.target, host, workspace.store, addresses.get)
    tape = _tape(workspace, traced, recorder)
    known, nameless = _known(workspace, call, path)
    ending = plain.ending or "returned"
    return Stepped(
        snippet.name,
        candidate_name(signature.name, built.build.name, len(call.signatures) == 1),
        signature.name,
        built.build.name,
        call.label,
        tuple(told_inputs(call.inputs, signature)),
        recorder.name,
        ending,
        plain.why,
        plain.place,
        told_output(plain.output, signature, call.inputs) if plain.output else "",
        plain.output,
        call.inputs,
        snippet.tolerance,
        path,
        call.number,
        signature,
        code,
        made,
        known,
        tape,
        nameless,
    )


def _plainly(workspace: Workspace, call: _Call, wanted: Wanted) -> Called:
    """Return what comes of the call when nothing watches it."""
    side = Side(call.program.path, call.number, call.signature, call.layout,
                lasting_variables(workspace, call.snippet))  # fmt: skip
    caller = Caller(side, workspace.bench.root, wanted.call_seconds)
    try:
        return caller.call(call.inputs)
    finally:
        caller.close()


def _tape(workspace: Workspace, call: Traced, recorder: Recorder) -> Tape:
    """Return the record of a call, made once."""
    key = digest(
        f"tape {stage_digest('tape')}", call.path, call.symbol, call.laid.head(*call.layout[:2]),
        *call.laid.parts, str(call.most), recorder.name,
    )  # fmt: skip
    store = workspace.store
    if not store.holds(key):
        with store.workplace() as work:
            with Artefact(work).tape.open("wb") as file:
                recorder.record(file)
            store.keep(work, key)
    with store.artefact(key).tape.open("rb") as file:
        tape = Tape(file, recorder.registers)
    if not tape.count:
        raise FaultError(f"{call.symbol}: stepping through it recorded nothing.")
    return tape


def _known(workspace: Workspace, call: _Call, path: str) -> tuple[Known, tuple[str, ...]]:
    """Return what the debug info of a candidate's build tells, and of what it tells nothing."""
    chain = workspace.toolchain(call.built.build)
    family = workspace.family(chain)
    kind = image_kind_of(chain.target)
    chip = kind is not None and kind.chip
    image = Path(path).read_bytes()
    bits = 16 if chip else machine_of(image[:20])[1]
    found: dict[str, FunctionLocals] = {}
    nameless = []
    if call.built.whole:
        nameless.append("its code is made while linking, and its variables are not kept")
    else:
        for one, same in load_locals(call.built, chain, family, workspace.store):
            if same:
                found[one.symbol] = one
            else:
                nameless.append(f"{one.symbol}: its code is another with debug info")
    placed = placed_in(path, lasting_variables(workspace, call.snippet))
    lasting = list(zip(placed, initial_bytes(image, placed), strict=True))
    types = {p.name: p.type for p in call.signature.parameters}
    mask = _DATA_MASK if chip else -1
    given = buffers_of(call.inputs, types)
    return Known(found, lasting, given, call.signature.symbol, bits, mask), tuple(nameless)
