"""Run every candidate on every input set in processes of its own, and judge it."""

from collections.abc import Iterable, Iterator, Mapping, Sequence

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.records import REFUSED, Built
from hot_anvil.core.calling.protocol import Output
from hot_anvil.core.config.records import Bench, Snippet
from hot_anvil.core.inputs.edges import edge_sets
from hot_anvil.core.inputs.fills import Files, file_named
from hot_anvil.core.inputs.input_sets import InputSet, check_unused, fitting, make_rivals
from hot_anvil.core.inputs.spec import InputSpec, own_sets
from hot_anvil.core.verify.agreement import told_output, with_expected
from hot_anvil.core.verify.crash_report import NOWHERE
from hot_anvil.core.verify.options import Value
from hot_anvil.core.verify.overlap import overlaps
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.sanitizer_reports import Undefined
from hot_anvil.core.verify.undefined import with_accepted, with_undefined
from hot_anvil.core.verify.verdicts import (
    NOT_RUN,
    Finding,
    Trial,
    Verdict,
    candidate_name,
    judge,
)
from hot_anvil.core.verify.verdicts import REFUSED as REFUSED_VERDICT
from hot_anvil.errors import RequestError
from hot_anvil.system.bench.inside import inside
from hot_anvil.system.build.linking import Program
from hot_anvil.system.check.drawing import draw_sets
from hot_anvil.system.check.plan import (
    RACE_CALLS,
    CheckPlan,
    Evaluated,
    FollowUp,
    Oracle,
)
from hot_anvil.system.check.reaching import unreached
from hot_anvil.system.check.remembered import with_earlier
from hot_anvil.system.check.sanitizing import find_undefined
from hot_anvil.system.check.unstable_reference import beside_unstable, unstable_sets
from hot_anvil.system.execute.calls import (
    LAYOUTS,
    PreparedInputs,
    joined,
    prepare_inputs,
    run_trial,
    run_trials,
)
from hot_anvil.system.execute.emulation import emulator_name
from hot_anvil.system.process.threads import thread_pool


def read_files(bench: Bench, snippet: Snippet) -> Files:
    """Return the contents of the files that a snippet's fills name."""
    every = [snippet.inputs, *(case.inputs for case in snippet.cases)]
    every += [case.expected for case in snippet.cases]
    values = [v for table in every for v in table.values()]
    texts = [v.get("fill") if isinstance(v, Mapping) else v for v in values]
    texts += [m for v in values if isinstance(v, Mapping) for m in v.get("members", {}).values()]
    files = {}
    for text in texts:
        name = file_named(text) if isinstance(text, str) else ""
        if not name:
            continue
        path = inside(bench, name, f"{bench.file}: snippet {snippet.name}: the fill {text}")
        try:
            files[name] = path.read_bytes()
        except OSError as error:
            raise RequestError(
                f"{bench.file}: snippet {snippet.name}: the fill {text}: {name} cannot be read "
                f"({error.strerror}) in {bench.root}."
            ) from None
    return files


def input_sets(
    bench: Bench,
    snippet: Snippet,
    signatures: Sequence[Signature],
    constants: tuple[int | float, ...] = (),
    promised: bool = False,
) -> list[list[InputSet]]:
    """Return the input sets of each entry: those of the bench, then the edges.

    ``constants`` and ``promised`` are as for ``edge_sets``.
    """
    check_unused(bench, snippet, signatures)
    files = read_files(bench, snippet)
    made: list[list[InputSet]] = [[] for _ in signatures]
    # The bench's own first: what is wrong with the bench is told of them.
    for wanted in _wanted(snippet, signatures, constants, promised):
        try:
            row = make_rivals(bench, snippet, signatures, wanted, files)
        except RequestError:
            if not wanted.edge:
                raise
            continue  # such as a count of n - 1 with n = 0
        for own, inputs in zip(made, row, strict=True):
            own.append(inputs)
    return made


def _wanted(
    snippet: Snippet,
    signatures: Sequence[Signature],
    constants: tuple[int | float, ...],
    promised: bool,
) -> Iterator[InputSpec]:
    yield from own_sets(snippet)
    yield from edge_sets(snippet, signatures, constants, promised)


def check_snippet(plan: CheckPlan, follow_up: FollowUp) -> Checked:
    """Judge every candidate of a snippet against the reference."""
    promised = any(promise.of_loop for promise in plan.promises)
    sets = input_sets(plan.bench, plan.snippet, plan.signatures, plan.constants, promised)
    if plan.options.draw:
        for own, more in zip(
            sets, draw_sets(plan, sets, read_files(plan.bench, plan.snippet)), strict=True
        ):
            own += more
    ranges = [
        prepare_inputs(
            index, signature, sets[index], plan.bench.root, plan.call_seconds, plan.variables
        )
        for index, signature in enumerate(plan.signatures)
    ]
    with thread_pool() as pool:
        searched = pool.map(lambda ready: _undefined(plan, ready), ranges)
        reference = ranges[plan.reference]
        name = candidate_name(reference.signature.name, plan.reference_build, plan.alone)
        oracle, trouble = _standard(plan, reference)
        undefined = [found for own in searched for found in own]
        oracle, excused = _excuse(plan, oracle, undefined, reference)
        jobs = [
            (ready, built)
            for ready in ranges
            for built in plan.builds
            if not written_elsewhere(built, ready.signature)
        ]
        done = 0

        raced = {one.entry for _, one in undefined if one.is_race}

        def check(job: tuple[PreparedInputs, Built]) -> Verdict:
            nonlocal done
            ready, built = job
            own = candidate_name(ready.signature.name, built.build.name, plan.alone)
            if trouble and own != name:
                why = f"the reference {name} {trouble.verdict}: {trouble.why}"
                finding = Finding(NOT_RUN, why)
            else:
                finding = trouble or _judge(plan, ready, built, oracle)
            # A race that was shown comes out otherwise by chance: it is called often.
            again = RACE_CALLS if ready.signature.name in raced else plan.repeat
            own_plan = plan.calling(max(again, plan.repeat))
            verdict = follow_up(own_plan, ready, oracle, Evaluated(built, finding))
            program = plan.programs.get(built.build.name)
            verdict = with_earlier(plan.store, program.path if program else "", verdict)
            done += 1
            plan.progress(f"checking {plan.snippet.name}", done, len(jobs))
            return verdict

        verdicts = tuple(pool.map(check, jobs))
    verdicts = beside_unstable(plan, ranges, name, verdicts)
    found = [one for _, one in undefined]
    flags = {built.build.name: built.build.flags for built in plan.builds}
    verdicts = with_undefined(verdicts, found, flags)
    return Checked(
        plan.snippet,
        plan.signatures,
        name,
        with_accepted(verdicts, plan.snippet.accept),
        undefined=first_of_each(found),
        unreached=() if trouble else _unreached(plan, ranges),
        excused=excused,
        edges=tuple(dict.fromkeys(s.spec.edge for s in reference.sets if s.spec.edge)),
        sanitized=plan.sanitized.build,
        not_sanitized=plan.sanitized.program.why,
        unset_watched="" if plan.unset().program.why else plan.unset().build,
        promises=plan.promises,
        values=_values(plan, ranges) if plan.options.values else (),
        sets=tuple(tuple(ready.sets) for ready in ranges),
    )


def _values(plan: CheckPlan, ranges: Sequence[PreparedInputs]) -> tuple[Value, ...]:
    """Return what every candidate puts out for each input set of the bench."""
    out = []
    for whole in ranges:
        own = [k for k, inputs in enumerate(whole.sets) if not inputs.spec.edge]
        for built in plan.builds:
            program = plan.programs.get(built.build.name)
            if program is None or program.why or written_elsewhere(built, whole.signature):
                continue
            among = _fitting(program, whole)
            ready = whole.only([k for k in own if among is None or k in among])
            name = candidate_name(ready.signature.name, built.build.name, plan.alone)
            outputs = joined(run_trials(program.path, ready, 0))
            for inputs, output in zip(ready.sets, outputs, strict=True):
                told = told_output(output, ready.signature, inputs) if output else "nothing"
                out.append(Value(name, inputs.label, told))
    return tuple(out)


def _unreached(
    plan: CheckPlan, ranges: Sequence[PreparedInputs]
) -> tuple[tuple[str, str, tuple[int, ...]], ...]:
    """Return (entry, file, lines) of what no checked call reached."""
    out = []
    made = plan.reach()
    for ready in ranges:
        by_file: dict[str, list[int]] = {}
        for file, line in unreached(made, ready, plan.store):
            by_file.setdefault(file, []).append(line)
        out += [(ready.signature.name, file, tuple(lines)) for file, lines in by_file.items()]
    return tuple(out)


def written_elsewhere(built: Built, signature: Signature) -> bool:
    """Tell whether an entry is in none of the sources that a build compiled."""
    every = len(built.units) == len(built.snippet.sources)
    return built.status != REFUSED and not every and built.entry_bytes(signature.symbol) is None


def _undefined(plan: CheckPlan, ready: PreparedInputs) -> list[tuple[int, Undefined]]:
    """Return (input set, undefined behaviour) of an entry; the set is -1 where it was known."""
    if plan.known:
        return [(-1, one) for one in plan.known.undefined if one.entry == ready.signature.name]
    found = [(0, one) for one in overlaps(ready.signature, ready.sets[0], only_certain=True)]
    if not plan.sanitized.program.why:
        is_reference = ready.entry == plan.reference
        found += find_undefined(plan.sanitized, ready, plan.store, all_edges=is_reference)
    finders = [plan.second, plan.unset]
    finders += [plan.races] if plan.threaded and not plan.blind else []
    own = ready.only([k for k, inputs in enumerate(ready.sets) if not inputs.spec.edge])
    for finder in finders:
        shown = any(not one.edge for _, one in found)
        sanitized = finder()
        if not shown and not sanitized.program.why:
            found += find_undefined(sanitized, own, plan.store)
    return found


def _standard(plan: CheckPlan, ready: PreparedInputs) -> tuple[Oracle, Finding | None]:
    """Return what the reference makes of its input sets, and what is wrong with it."""
    nothing = Oracle(ready.signature, "", ready.entry, (), ())
    program = plan.programs.get(plan.reference_build)
    if program is None:
        return nothing, Finding(REFUSED_VERDICT, "did not compile")
    if program.why:
        return nothing, Finding(NOT_RUN, program.why)
    trials = run_trials(program.path, ready, 0)
    for trial in trials:
        if trial.ending and not ready.sets[trial.at].spec.edge:
            return nothing, Finding(trial.ending, trial.why, trial.at, trial.place)
    own = trials[:1]
    if not own[0].ending:
        own += [run_trial(program.path, ready, layout) for layout in range(1, len(LAYOUTS))]
    unstable = unstable_sets(own, ready.signature, ready.sets)
    files = read_files(plan.bench, plan.snippet)
    expected: list[Output | None] = []
    for index, (inputs, output) in enumerate(zip(ready.sets, joined(trials), strict=True)):
        number = inputs.spec.case
        output = None if index in unstable and number < 0 else output
        if output and number >= 0:
            where = f"{plan.bench.file}: snippet {plan.snippet.name}: case {number + 1}"
            given = plan.snippet.cases[number].expected
            output = with_expected(output, given, ready.signature, inputs, files, where)
        # A process that ended took what had accumulated in variables with it.
        lost = output and len(trials) > 1
        expected.append(output._replace(variables=()) if output and lost else output)
    return Oracle(ready.signature, program.path, ready.entry, expected, tuple(own)), None


def _excuse(
    plan: CheckPlan,
    oracle: Oracle,
    undefined: Sequence[tuple[int, Undefined]],
    reference: PreparedInputs,
) -> tuple[Oracle, tuple[tuple[str, str], ...]]:
    """Let candidates differ on edges on which the reference has no right answer."""
    if plan.known:
        labels = dict(plan.known.excused)
        at = [k for k, one in enumerate(reference.sets) if one.spec.edge and one.label in labels]
        return oracle._replace(excused=frozenset(at)), plan.known.excused
    excused = {}
    for index, found in undefined:
        if found.entry == reference.signature.name and found.edge:
            why = f"undefined behaviour at {found.place.text}: {found.message}"
            excused[index] = found.inputs, why
    return oracle._replace(excused=frozenset(excused)), tuple(excused.values())


def _judge(plan: CheckPlan, ready: PreparedInputs, built: Built, oracle: Oracle) -> Finding:
    if built.status == REFUSED:
        return Finding(REFUSED_VERDICT, built.why)
    program = plan.programs[built.build.name]
    if program.why:
        return Finding(NOT_RUN, program.why)
    if built.entry_bytes(ready.signature.symbol) is None:
        return Finding(NOT_RUN, f"this build has no function {ready.signature.name}")
    if _defines(built) != _defines(plan.reference_built):
        # Another text: what a function keeps to itself may differ.
        ready = ready._replace(variables=tuple(v for v in ready.variables if not v.inside))
    is_reference = (program.path, ready.entry) == (oracle.path, oracle.entry)
    among = _fitting(program, ready)
    trials: list[Trial] = []
    for layout in range(len(LAYOUTS)):
        known = oracle.trials[layout : layout + 1] if is_reference else ()
        trials += known or [run_trial(program.path, ready, layout, among)]
        if trials[-1].ending:
            break
    if not trials[-1].ending and _without_own(trials[0], ready):
        return Finding(NOT_RUN, "the bench's own values do not fit its types, or its memory")
    finding = judge(
        oracle.expected,
        oracle.signature,
        trials,
        ready.signature,
        ready.sets,
        plan.snippet.tolerance,
        oracle.excused,
    )
    left_out = 0 if trials[-1].ending else trials[0].outputs.count(None)
    return finding._replace(left_out=left_out)


def _without_own(trial: Trial, ready: PreparedInputs) -> bool:
    """Tell whether the bench's own values could not be laid out, none of them."""
    pairs = zip(ready.sets, trial.outputs, strict=True)
    own = [output for inputs, output in pairs if not inputs.spec.edge]
    return bool(own) and all(output is None for output in own)


def _fitting(program: Program, ready: PreparedInputs) -> list[int] | None:
    """Return the input sets whose numbers a program's own types hold; None: all of them."""
    there = program.there[ready.entry] if program.there else None
    return fitting(ready.signature, there, ready.sets) if there else None


def _defines(built: Built) -> list[str]:
    return [flag for flag in built.build.flags if flag.startswith("-D")]


def first_of_each(found: Iterable[Undefined]) -> tuple[Undefined, ...]:
    """Return undefined behaviour once for each entry and line, the bench's own inputs first."""
    kept: dict[tuple[str, object], Undefined] = {}
    for one in sorted(found, key=lambda undefined: bool(undefined.edge)):
        place = one.place if one.place != NOWHERE else one.message
        kept.setdefault((one.entry, place), one)
    return tuple(kept.values())


def verdict_of(plan: CheckPlan, ready: PreparedInputs, evaluated: Evaluated) -> Verdict:
    """Return a finding as a verdict, without what is only worked out where it is needed."""
    finding = evaluated.finding
    shown = ready.sets[finding.at] if finding.at >= 0 else None
    program = plan.programs.get(evaluated.built.build.name)
    return Verdict(
        plan.snippet.name,
        ready.signature.name,
        evaluated.built.build.name,
        candidate_name(ready.signature.name, evaluated.built.build.name, plan.alone),
        finding.verdict,
        finding.why,
        len(ready.sets) - finding.left_out,
        shown.label if shown else "",
        shown.spec.edge if shown else "",
        finding.place,
        finding.error,
        emulator=emulator_name(program.path) if program else "",
    )
