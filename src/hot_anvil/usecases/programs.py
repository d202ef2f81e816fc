"""The workspace's checking of whole programs: each run's output beside the reference's."""

from collections.abc import Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from hot_anvil.core.build.records import COMPILED, REFUSED, Built
from hot_anvil.core.config.records import ProgramRun, Snippet
from hot_anvil.core.toolchain.records import without_system
from hot_anvil.core.verify.distributions import beside, compare_tallies, in_one_order
from hot_anvil.core.verify.options import CheckOptions, Value
from hot_anvil.core.verify.program_runs import (
    STDOUT,
    Ran,
    RunOutput,
    first_difference,
    run_label,
    told,
    with_expected,
)
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.sanitizer_reports import Undefined
from hot_anvil.core.verify.undefined import with_accepted, with_undefined
from hot_anvil.core.verify.verdicts import (
    CORRECT,
    NOT_RUN,
    UNSTABLE,
    WRONG,
    Finding,
    Tally,
    Verdict,
)
from hot_anvil.core.verify.verdicts import REFUSED as REFUSED_VERDICT
from hot_anvil.errors import RequestError
from hot_anvil.system.bench.inside import inside
from hot_anvil.system.build.linking import Program
from hot_anvil.system.check.checking import first_of_each
from hot_anvil.system.check.plan import RACE_CALLS
from hot_anvil.system.check.remembered import with_earlier
from hot_anvil.system.check.sanitizing import read_complaints
from hot_anvil.system.execute.emulation import emulation_of, emulator_name
from hot_anvil.system.execute.programs import link_whole_program, run_program
from hot_anvil.system.process.threads import thread_pool
from hot_anvil.system.store.store import Store
from hot_anvil.usecases.fault_finders import blind_to_races, extra_program, starts_threads
from hot_anvil.workspace import Workspace

if TYPE_CHECKING:
    from hot_anvil.system.fleet.runs import RunGiven

_TALLY_RUNS = 20  # of a program that two runs showed to be unstable


class Given(NamedTuple):
    """One run with all its files at hand."""

    run: ProgramRun
    label: str
    stdin: bytes
    needs: Mapping[str, Path]
    expected: Mapping[str, bytes]


def check_program(workspace: Workspace, snippet: Snippet, options: CheckOptions) -> Checked:
    """Judge every build of a program by what its runs put out."""
    builds = workspace.compile([snippet.name])
    given = given_runs(workspace, snippet)
    programs = {b.build.name: link_program(workspace, b) for b in builds if b.status == COMPILED}
    executor = workspace.executor
    if executor is None:
        return _checked_here(workspace, snippet, options, builds, programs, given)
    known = executor.known.get(snippet.name)
    known = known or _checked_here(workspace, snippet, options, builds, programs, given)
    runs = [_by_content(one) for one in given]
    return executor.check_programs(known, builds, programs, runs, options)


def _checked_here(
    workspace: Workspace,
    snippet: Snippet,
    options: CheckOptions,
    builds: Sequence[Built],
    programs: Mapping[str, Program],
    given: Sequence[Given],
) -> Checked:
    seconds, root = options.call_seconds, workspace.bench.root
    reference = reference_among(workspace, builds)
    asked = snippet, builds, programs, given, reference, options, workspace.store
    verdicts = judge_programs(root, *asked)
    found, by, why = _undefined(workspace, snippet, given, seconds)
    threaded = any(starts_threads(built, workspace.store) for built in builds)
    blind = blind_to_races(workspace, snippet, builds) if threaded else ""
    watched = ""
    if not found:
        found, watched, lacking = _undefined(workspace, snippet, given, seconds, "unset_flags")
        watched = "" if lacking else watched
    if threaded and not blind and not found:
        found, _, _ = _undefined(workspace, snippet, given, seconds, "race_flags")
    if any(one.is_race for one in found):  # it comes out otherwise by chance
        verdicts = _called_often(root, builds, programs, given, reference, seconds, verdicts)
    flags = {b.build.name: b.build.flags for b in builds}
    verdicts = with_accepted(with_undefined(verdicts, found, flags), snippet.accept)
    under = {name: emulator_name(program.path) for name, program in programs.items()}
    verdicts = tuple(v._replace(emulator=under.get(v.build, "")) for v in verdicts)
    notes = (f"races were not looked for: {blind}.",) if blind else ()
    return Checked(
        snippet, (), reference, verdicts, notes, found, sanitized=by, not_sanitized=why,
        starts_threads=threaded, unset_watched=watched,
        values=_values(workspace, programs, given, seconds) if options.values else (),
    )  # fmt: skip


def _by_content(given: Given) -> "RunGiven":
    from hot_anvil.system.fleet.runs import RunGiven

    needs = {name: place.read_bytes() for name, place in given.needs.items()}
    return RunGiven(given.run, given.label, given.stdin, needs, given.expected)


def reference_among(workspace: Workspace, builds: Sequence[Built]) -> str:
    """Return the build whose output counts as right: the bench's, or the first there is."""
    names = [b.build.name for b in builds]
    reference = workspace.plan.reference.name
    return reference if reference in names else names[0]


def judge_programs(
    root: str,
    snippet: Snippet,
    builds: Sequence[Built],
    programs: Mapping[str, Program],
    given: Sequence[Given],
    reference: str,
    options: CheckOptions,
    store: Store,
) -> tuple[Verdict, ...]:
    """Judge programs by what their runs put out beside the reference's; ``root``: the bench's."""
    seconds, repeat = options.call_seconds, options.repeat
    with thread_pool() as pool:
        expected, first, trouble = _expected(root, programs.get(reference), given, seconds)

        def check(built: Built) -> Verdict:
            name = built.build.name
            if trouble and name == reference:
                return _verdict(snippet, name, trouble, given, ())
            if trouble:
                why = f"the reference {reference} {trouble.verdict}: {trouble.why}"
                return _verdict(snippet, name, Finding(NOT_RUN, why), given, ())
            program = programs.get(name)
            known = first if name == reference else ()
            evaluated = _judge(root, built, program, given, expected, seconds, repeat, known)
            verdict = _verdict(snippet, name, evaluated[0], given, evaluated[1])
            return with_earlier(store, program.path if program else "", verdict)

        verdicts = tuple(pool.map(check, builds))
    return _beside_unstable(root, reference, programs, given, seconds, verdicts)


def _values(
    workspace: Workspace, programs: Mapping[str, Program], given: Sequence[Given], seconds: float
) -> tuple[Value, ...]:
    """Return what every build puts out for each run."""
    out = []
    for build, program in programs.items():
        for one in given if not program.why else ():
            ran = _run(workspace.bench.root, program, one, seconds)
            out.append(Value(build, one.label, told(ran.output) if ran.output else ran.why))
    return tuple(out)


def _beside_unstable(
    root: str,
    reference: str,
    programs: Mapping[str, Program],
    given: Sequence[Given],
    seconds: float,
    verdicts: tuple[Verdict, ...],
) -> tuple[Verdict, ...]:
    """Return the verdicts; where the reference is unstable outputs are compared by how often."""
    own = next(v for v in verdicts if v.build == reference)
    if own.verdict != UNSTABLE:
        return verdicts
    one = next((g for g in given if g.label == own.inputs), None)

    @cache
    def outputs(build: str) -> list[tuple[int, RunOutput]]:
        assert one
        runs = (_run(root, programs[build], one, seconds) for _ in range(_TALLY_RUNS))
        return [(1, ran.output) for ran in runs if ran.output]

    others = [
        v
        for v in verdicts
        if v is not own and (v.verdict == CORRECT or v.inputs in (own.inputs, ""))
        and v.verdict in (CORRECT, WRONG, UNSTABLE)
    ]  # fmt: skip
    out = []
    for verdict in verdicts:
        if verdict in others:
            told = None  # it was unstable in an earlier check, and is not now
            if one:
                sides = in_one_order(outputs(reference), outputs(verdict.build), RunOutput.__eq__)
                told = compare_tallies(*sides, len(others))
            verdict = beside(verdict, reference, told, own.inputs)
        out.append(verdict)
    return tuple(out)


def _called_often(
    root: str,
    builds: Sequence[Built],
    programs: Mapping[str, Program],
    given: Sequence[Given],
    reference: str,
    seconds: float,
    verdicts: Sequence[Verdict],
) -> tuple[Verdict, ...]:
    """Run programs that seemed correct many times, since a race was shown."""
    expected = _expected(root, programs.get(reference), given, seconds)[0]
    out = []
    for built, verdict in zip(builds, verdicts, strict=True):
        if verdict.verdict == CORRECT:
            program = programs.get(built.build.name)
            judged = _judge(root, built, program, given, expected, seconds, RACE_CALLS, ())
            verdict = _verdict(built.snippet, verdict.build, judged[0], given, judged[1])
        out.append(verdict)
    return tuple(out)


def given_runs(workspace: Workspace, snippet: Snippet) -> list[Given]:
    root = Path(workspace.bench.root)
    where = f"{workspace.bench.file}: snippet {snippet.name}"

    def contents(value: Any) -> bytes:
        if isinstance(value, str):
            return value.encode()
        try:
            return inside(workspace.bench, value["file"], where).read_bytes()
        except OSError as error:
            raise RequestError(f"{where}: {value['file']}: {error.strerror}.") from None

    out = []
    for number, one in enumerate(snippet.runs or (ProgramRun((), None, (), (), {}),)):
        for name in one.needs:
            if not inside(workspace.bench, name, where).is_file():
                raise RequestError(f"{where}: needs {name}, and there is no such file in {root}.")
        wanted = dict(one.expected.get("files", {}))
        if "stdout" in one.expected:
            wanted[STDOUT] = one.expected["stdout"]
        texts = {name: contents(value) for name, value in wanted.items()}
        stdin = contents(one.stdin) if one.stdin is not None else b""
        needs = {name: root / name for name in one.needs}
        out.append(Given(one, run_label(one, number), stdin, needs, texts))
    return out


def link_program(workspace: Workspace, built: Built) -> Program:
    from hot_anvil.system.build.link_command import host_toolchain

    chain = workspace.toolchain(built.build)
    if chain.can["run"]:
        host = host_toolchain(workspace.found.toolchains)
        return link_whole_program(built, chain, host, workspace.store)
    emulation = emulation_of(chain, workspace.found.toolchains)
    if not emulation.host or without_system(chain.target):
        why = emulation.why or f"whole programs for {chain.target} are not run, only functions"
        return Program("", why, "")
    return link_whole_program(built, chain, emulation.host, workspace.store)


def _run(root: str, program: Program, given: Given, seconds: float) -> Ran:
    run = given.run
    return run_program(
        program.path, run.arguments, given.stdin, given.needs, run.writes, seconds, root
    )


def _expected(
    root: str, program: Program | None, given: Sequence[Given], seconds: float
) -> tuple[list[RunOutput], list[RunOutput], Finding | None]:
    """Return what the runs must put out, what the reference did, or what is wrong with it."""
    if program is None:
        return [], [], Finding(REFUSED_VERDICT, "did not compile")
    if program.why:
        return [], [], Finding(NOT_RUN, program.why)
    out, first = [], []
    for number, one in enumerate(given):
        ran = _run(root, program, one, seconds)
        if ran.output is None:
            assert ran.ending
            return [], [], Finding(ran.ending, ran.why, number, ran.place)
        first.append(ran.output)
        out.append(with_expected(ran.output, one.run, one.expected))
    return out, first, None


def _judge(
    root: str,
    built: Built,
    program: Program | None,
    given: Sequence[Given],
    expected: Sequence[RunOutput],
    seconds: float,
    repeat: int,
    known: Sequence[RunOutput],
) -> tuple[Finding, Tally]:
    """Judge a program by its runs; ``known`` are outputs of earlier ones of its own."""
    if built.status == REFUSED or program is None:
        return Finding(REFUSED_VERDICT, built.why), ()
    if program.why:
        return Finding(NOT_RUN, program.why), ()
    wrong: Finding | None = None
    for number, one in enumerate(given):
        seen = [*known[number : number + 1]]
        times = max(repeat, 2) + len(seen)
        while len(seen) < times:
            ran = _run(root, program, one, seconds)
            if ran.output is None:
                assert ran.ending
                return Finding(ran.ending, ran.why, number, ran.place), ()
            seen.append(ran.output)
            if len(set(seen)) > 1:
                times = max(times, _TALLY_RUNS)
        if len(set(seen)) > 1:
            counted = {output: seen.count(output) for output in seen}
            order = sorted(counted, key=lambda output: -counted[output])
            tally = tuple((counted[output], told(output)) for output in order)
            difference = first_difference(order[0], order[1])
            return Finding(UNSTABLE, f"two runs differ: {difference}", number), tally
        said = first_difference(expected[number], seen[0])
        if said and not wrong:
            wrong = Finding(WRONG, said, number)
    return wrong or Finding(CORRECT, ""), ()


def _verdict(
    snippet: Snippet, build: str, finding: Finding, given: Sequence[Given], tally: Tally
) -> Verdict:
    label = given[finding.at].label if finding.at >= 0 else ""
    return Verdict(
        snippet.name, "", build, build, finding.verdict, finding.why, len(given), label, "",
        finding.place, tally=tally,
    )  # fmt: skip


def _undefined(
    workspace: Workspace,
    snippet: Snippet,
    given: Sequence[Given],
    seconds: float,
    flags_of: str = "sanitizer_flags",
) -> tuple[tuple[Undefined, ...], str, str]:
    """Return undefined behaviour of a program's runs, the build that finds it, or why none does."""
    name, program, traps = extra_program(
        workspace, snippet, flags_of, lambda built: link_program(workspace, built)
    )
    if traps:  # where a program stops without a word it need not be for that
        return (), name, "no toolchain here has sanitizers for it"
    if program.why:
        return (), name, program.why
    found = []
    for one in given:
        ran = _run(workspace.bench.root, program, one, seconds)
        fault = read_complaints(ran.complaints, program.path, workspace.bench.root)
        if fault:
            found.append(Undefined("main", one.label, "", *fault, name))
    return first_of_each(found), name, ""
