"""The Python API: open a bench or a source, then compile, compare, check, measure, pick.

    import hot_anvil

    anvil = hot_anvil.open_bench("tide-gauge")
    for built in anvil.compile():
        print(built.build.name, built.status, built.code_bytes)
    diff = anvil.diff("gcc:plain", "gcc:fast")
    picks = anvil.pick()

Everything that the command does is here. Every step does the steps before it when they are still
missing. Records are immutable named tuples. What a person can mend is raised as
``hot_anvil.errors.AnvilError``.
"""

from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING

from hot_anvil.core.code.records import EMITTED, View
from hot_anvil.core.experiments.records import SECONDS
from hot_anvil.core.measure.options import DEFAULTS, Options
from hot_anvil.core.results.result_set import ResultSet
from hot_anvil.core.verify.options import CALL_SECONDS, CheckOptions
from hot_anvil.system.process.progress import Progress, no_progress
from hot_anvil.system.process.scope import Limits
from hot_anvil.workspace import Elsewhere, Workspace, make_workspace

if TYPE_CHECKING:
    from hot_anvil.core.arch.ptx.device.schedule import Scheduler
    from hot_anvil.core.binary.frame_layout import BuildFrame
    from hot_anvil.core.binary.image_map import BuildImage
    from hot_anvil.core.binary.signatures import Signature
    from hot_anvil.core.build.builds import Build
    from hot_anvil.core.build.records import Built
    from hot_anvil.core.code.records import Code
    from hot_anvil.core.config.records import Bench, Snippet
    from hot_anvil.core.diff.ledger import Ledger
    from hot_anvil.core.experiments.results import WhatIf
    from hot_anvil.core.facts.expectations import Expected
    from hot_anvil.core.facts.table import SnippetFacts
    from hot_anvil.core.flags.records import Narrowed
    from hot_anvil.core.fleet.machines import MachineClass
    from hot_anvil.core.fleet.merging import Merged
    from hot_anvil.core.kernels.records import KernelLaunch, ThreadSteps
    from hot_anvil.core.measure.history import Compared, State
    from hot_anvil.core.measure.hotspots import Hot
    from hot_anvil.core.measure.results import Measured, Picked
    from hot_anvil.core.measure.summary import Result
    from hot_anvil.core.pins.records import Pins
    from hot_anvil.core.proof.records import DebugProof
    from hot_anvil.core.remarks.table import SnippetRemarks
    from hot_anvil.core.results.answers import Answer, KeptAnswer, KeptHead
    from hot_anvil.core.results.code import CompilerText, Listing, SnippetDiff
    from hot_anvil.core.results.examples import Example
    from hot_anvil.core.results.looks import Look
    from hot_anvil.core.results.pages import Page
    from hot_anvil.core.results.syntax import Change
    from hot_anvil.core.results.words import Told, Used
    from hot_anvil.core.stages.records import FunctionStages, Offered, WholeForm
    from hot_anvil.core.stages.told import SnippetCalls
    from hot_anvil.core.trace.parting import Agreement, Parting
    from hot_anvil.core.trace.records import ShownCall, Stepped
    from hot_anvil.core.trace.selection import Choice
    from hot_anvil.core.verify.results import Checked, Replay
    from hot_anvil.system.store.results import Results
    from hot_anvil.usecases.exporting import Exported, Imported
    from hot_anvil.usecases.toolchains import Machine

Names = Sequence[str]  # of snippets or builds; none: all
NO_WEIGHTS: Mapping[str, float] = MappingProxyType({})

__all__ = [
    "Anvil",
    "Elsewhere",
    "Kept",
    "Limits",
    "Options",
    "Watch",
    "compare_sources",
    "explain",
    "find_machine",
    "import_export",
    "open_bench",
    "open_kept",
    "open_source",
    "save_export",
    "start_bench",
]  # fmt: skip


class Kept:
    """What was answered about a bench or a source before; no compiler is needed for it."""

    def __init__(self, results: "Results") -> None:
        self._results = results

    def heads(self, snippets: Names = ()) -> "list[KeptHead]":
        """Return what a list tells of the answers, the oldest first."""
        from hot_anvil.usecases.answers import kept_heads

        return kept_heads(self._results, snippets)

    def answer(self, number: int = 0) -> "KeptAnswer":
        """Return an answer by its number, the last for 0."""
        from hot_anvil.usecases.answers import kept_answer

        return kept_answer(self._results, number)

    def notes_said(self) -> tuple[str, ...]:
        """Return the notes on this machine that answers have told before."""
        from hot_anvil.usecases.answers import notes_said

        return notes_said(self._results)

    def page(self) -> "Page | None":
        """Return the page that came with an imported bench, None for any other."""
        from hot_anvil.usecases.exporting import imported_page

        return imported_page(self._results)

    def history(self, snippets: Names = (), candidates: Names = ()) -> "ResultSet[State]":
        """Return what was measured before, the oldest first."""
        from hot_anvil.usecases.history import kept_states

        return ResultSet(kept_states(self._results, snippets, candidates))

    def merge(
        self,
        files: Sequence[str],
        snippets: Names = (),
        weights: "Mapping[str, float]" = NO_WEIGHTS,
    ) -> "Merged":
        """Return what holds over the machines that measured, here and in exports from elsewhere.

        ``weights``: what a class of machines counts in means over classes, 1 where it is not named.
        """
        from hot_anvil.usecases.merging import merge_answers

        return merge_answers(self._results, files, snippets, weights)

    def compare(
        self, snippets: Names = (), candidates: Names = (), numbers: Sequence[int] = ()
    ) -> "list[Compared]":
        """Compare two measurements; without numbers the last of each snippet with the one before.

        The one before is the last whose code, toolchain or machine differs.
        """
        from hot_anvil.usecases.history import compared_states, kept_states

        return compared_states(kept_states(self._results, snippets, candidates), numbers)


class Anvil:
    """A bench on this machine, and what can be done with it.

    It sees each source as it was when it first compiled it; open it again after an edit.
    """

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace

    @property
    def bench(self) -> "Bench":
        """The bench."""
        return self.workspace.bench

    @property
    def builds(self) -> "tuple[Build, ...]":
        """The builds of the bench on this machine."""
        return self.workspace.plan.builds

    @property
    def notes(self) -> tuple[str, ...]:
        """What this machine lacks of what the bench asks for."""
        return self.workspace.plan.notes

    def build(self, name: str) -> "Build":
        """Return the build of this name; raises RequestError with the nearest one."""
        return self.workspace.build(name)

    def compile(self, snippets: Names = (), builds: Names = ()) -> "ResultSet[Built]":
        """Return each snippet under each build; a refused one is a result, not an error."""
        from hot_anvil.usecases.listings import compile_builds

        return ResultSet(compile_builds(self.workspace, snippets, builds))

    def prove_debug(self, builds: "Sequence[Built]") -> "dict[tuple[str, str], DebugProof]":
        """Return whether our debug flag changes code: (snippet, build) -> proof."""
        from hot_anvil.usecases.listings import prove_debug_flag

        return prove_debug_flag(self.workspace, builds)

    def code(self, built: "Built", view: View = EMITTED, chains: bool = False) -> "Code":
        """Return the code of a build of a snippet; raises RequestError if it is refused.

        With ``chains`` each instruction tells the calls it was inlined through.
        """
        return self.workspace.code(built, view, chains)

    def listing(
        self,
        build: str,
        snippets: Names = (),
        entries: Collection[str] = (),
        view: View = EMITTED,
    ) -> "ResultSet[Listing]":
        """Return each snippet's code under one build, by source line."""
        from hot_anvil.usecases.listings import list_build

        return ResultSet(list_build(self.workspace, build, snippets, entries, view))

    def compiler_texts(self, build: str, snippets: Names = ()) -> "tuple[CompilerText, ...]":
        """Return the assembly of each source as the compiler of a build wrote it."""
        from hot_anvil.usecases.listings import compiler_texts

        return compiler_texts(self.workspace, build, snippets)

    def library_listing(self, build: str, function: str) -> "Listing":
        """Return a library function's own code, as a build's toolchain would link it."""
        from hot_anvil.usecases.listings import list_library

        return list_library(self.workspace, build, function)

    def diff(
        self,
        left: str,
        right: str,
        snippets: Names = (),
        entries: Collection[str] = (),
        view: View = EMITTED,
    ) -> "ResultSet[SnippetDiff]":
        """Compare each snippet on two sides, with reasons; raises RequestError if one is refused.

        A side is a build, or ENTRY@BUILD: two entries are compared through their instructions.
        """
        from hot_anvil.usecases.comparison import compare_builds

        return ResultSet(compare_builds(self.workspace, left, right, snippets, entries, view))

    def diff_edit(
        self, build: str, edits: int = 1, snippets: Names = (), entries: Collection[str] = ()
    ) -> "ResultSet[SnippetDiff]":
        """Compare what a build made of the source some edits ago with what it makes now."""
        from hot_anvil.usecases.comparison import compare_edit

        return ResultSet(compare_edit(self.workspace, build, edits, snippets, entries))

    def ledger(
        self, builds: Names = (), snippets: Names = (), entries: Collection[str] = ()
    ) -> "ResultSet[Ledger]":
        """Return each snippet's instruction counts by source line under many builds."""
        from hot_anvil.usecases.comparison import make_ledgers

        return ResultSet(make_ledgers(self.workspace, builds, snippets, entries))

    def facts(
        self, builds: Names = (), snippets: Names = (), entries: Collection[str] = ()
    ) -> "ResultSet[SnippetFacts]":
        """Return each snippet's facts about functions and loops under many builds."""
        from hot_anvil.usecases.inspection import make_facts

        return ResultSet(make_facts(self.workspace, builds, snippets, entries))

    def remarks(self, builds: Names = (), snippets: Names = ()) -> "ResultSet[SnippetRemarks]":
        """Return what each build's compiler says that it did and could not do, and why."""
        from hot_anvil.usecases.remarks import ask_builds

        return ResultSet(ask_builds(self.workspace, builds, snippets))

    def stages_offered(self, builds: Names = (), snippets: Names = ()) -> "ResultSet[Offered]":
        """Return what each build's compiler can show between source and assembly."""
        from hot_anvil.usecases.stages import offer_stages

        return ResultSet(offer_stages(self.workspace, builds, snippets))

    def stages(
        self, entry: str, builds: Names = (), snippets: Names = (), only: str = ""
    ) -> "ResultSet[FunctionStages]":
        """Return what each pass of each build's compiler left of one function, or ``only`` one."""
        from hot_anvil.usecases.stages import make_stages

        return ResultSet(make_stages(self.workspace, builds, snippets, entry, only))

    def whole_forms(self, build: str, stage: str, snippets: Names = ()) -> "tuple[WholeForm, ...]":
        """Return one form of each whole source, to be read as a stream."""
        from hot_anvil.usecases.stages import whole_forms

        return whole_forms(self.workspace, build, snippets, stage)

    def calls(
        self, builds: Names = (), snippets: Names = (), entries: Collection[str] = ()
    ) -> "ResultSet[SnippetCalls]":
        """Return what C++ lines call, in order, and what each build left of it."""
        from hot_anvil.usecases.calls import make_calls

        return ResultSet(make_calls(self.workspace, builds, snippets, entries))

    def narrow(
        self,
        left: str,
        right: str,
        snippets: Names = (),
        entries: Collection[str] = (),
        options: Options | None = None,
        call_seconds: float = CALL_SECONDS,
    ) -> "ResultSet[Narrowed]":
        """Return which of the flags in which two builds differ matter, for each entry.

        With ``options`` what each is worth in time is measured too.
        """
        from hot_anvil.usecases.narrowing import narrow_builds

        asked = left, right, snippets, entries, options, call_seconds
        return ResultSet(narrow_builds(self.workspace, *asked))

    def whatif(
        self,
        build: str,
        snippets: Names = (),
        entries: Collection[str] = (),
        seconds: float = SECONDS,
        seed: int | None = None,
        call_seconds: float = CALL_SECONDS,
    ) -> "ResultSet[WhatIf]":
        """Return what would make entries faster under a build: flags and edits that were tried.

        ``seconds`` of measuring for each entry.
        """
        from hot_anvil.usecases.whatif import try_experiments

        asked = build, snippets, entries, seconds, seed, call_seconds
        return ResultSet(try_experiments(self.workspace, *asked))

    def frames(
        self, build: str, snippets: Names = (), entries: Collection[str] = ()
    ) -> "tuple[BuildFrame, ...]":
        """Return where the variables of each function live under one build."""
        from hot_anvil.usecases.inspection import make_frames

        return make_frames(self.workspace, build, snippets, entries)

    def images(self, builds: Names = (), snippets: Names = ()) -> "ResultSet[BuildImage]":
        """Return where code and data of each snippet end up under each build."""
        from hot_anvil.usecases.images import make_images

        return ResultSet(make_images(self.workspace, builds, snippets))

    def pins(
        self,
        cycles: int,
        builds: Names = (),
        snippets: Names = (),
        pins: Names = (),
        beside: Path | None = None,
    ) -> "tuple[Pins, ...]":
        """Return what a simulated chip's pins do in so many cycles of each build of a program."""
        from hot_anvil.usecases.pins import watch_pins

        return watch_pins(self.workspace, builds, snippets, pins, cycles, beside)

    def dump_pins(self, found: "Sequence[Pins]", path: Path) -> None:
        """Write the recording of the one build among ``found`` as a value change dump."""
        from hot_anvil.usecases.pins import dump_pins

        dump_pins(found, path)

    def expect(self, builds: Names = (), snippets: Names = ()) -> "ResultSet[Expected]":
        """Return whether the bench's expectations hold."""
        from hot_anvil.usecases.inspection import check_expectations

        return ResultSet(check_expectations(self.workspace, builds, snippets))

    def used(self, build: str, snippets: Names = ()) -> "tuple[Used, ...]":
        """Return every instruction that a build uses, with its count and what it does."""
        from hot_anvil.usecases.words import instructions_used

        return instructions_used(self.workspace, build, snippets)

    def functions(self, snippet: str) -> "tuple[Signature, ...]":
        """Return how to call every function of a snippet that others can call."""
        from hot_anvil.usecases.entries import functions_of

        return functions_of(self.workspace, snippet)

    def check(
        self,
        snippets: Names = (),
        call_seconds: float = CALL_SECONDS,
        repeat: int = 2,
        values: bool = False,
        draw: int = 0,
    ) -> "ResultSet[Checked]":
        """Judge every candidate of the snippets against the reference.

        ``call_seconds`` bounds each call. ``repeat`` calls on each input set find what only
        sometimes comes out otherwise. ``values`` keeps what each candidate puts out; ``draw`` tries
        that many more input sets, and keeps those that reach lines which no other does.
        """
        from hot_anvil.usecases.verification import check_snippets

        options = CheckOptions(call_seconds, repeat, values, draw)
        return ResultSet(check_snippets(self.workspace, snippets, options))

    def replay(self, name: str, call_seconds: float = CALL_SECONDS) -> "Replay":
        """Call a candidate once more on an input set that a check found to fail."""
        from hot_anvil.usecases.verification import replay_call

        return replay_call(self.workspace, name, call_seconds)

    def measure(
        self,
        snippets: Names = (),
        options: Options = DEFAULTS,
        call_seconds: float = CALL_SECONDS,
    ) -> "ResultSet[Measured]":
        """Check, then measure what is correct."""
        from hot_anvil.usecases.measurement import measure_snippets

        return ResultSet(measure_snippets(self.workspace, snippets, options, call_seconds))

    def pick(
        self,
        snippets: Names = (),
        options: Options = DEFAULTS,
        call_seconds: float = CALL_SECONDS,
    ) -> "ResultSet[Picked]":
        """Do the whole job and choose the fastest correct candidate of each snippet."""
        from hot_anvil.usecases.picking import pick_snippets

        return ResultSet(pick_snippets(self.workspace, snippets, options, call_seconds))

    def explore(
        self,
        snippets: Names = (),
        options: Options = DEFAULTS,
        call_seconds: float = CALL_SECONDS,
    ) -> "ResultSet[Picked]":
        """Choose the fastest correct candidate over many flag sets, the bench's among them."""
        from hot_anvil.usecases.exploring import explore_snippets

        return ResultSet(explore_snippets(self.workspace, snippets, options, call_seconds))

    def beside_earlier(self, snippets: Names = (), number: int = 0) -> "Anvil":
        """Return an Anvil in which earlier code takes part beside the code now.

        ``number`` is a measurement's, 0 for each snippet's last other code.
        """
        from hot_anvil.usecases.earlier_code import with_earlier

        return Anvil(with_earlier(self.workspace, snippets, number))

    def slower_than(self, measured: "Measured", build: str) -> "list[Result]":
        """Return the candidates told slower than their own entry under a build, for each size.

        With ``build`` "earlier": than their earlier code.
        """
        from hot_anvil.usecases.picking import slower_than

        return slower_than(self.workspace, measured, build)

    def hotspots(
        self,
        builds: Names = (),
        snippets: Names = (),
        entries: Sequence[str] = (),
        at: str = "",
        seconds: float = 1.0,
    ) -> "ResultSet[Hot]":
        """Return where the time of correct candidates goes, by source line and instruction.

        ``at`` is a sweep point such as "n=4096" ("" for the last); ``seconds`` is for each
        candidate.
        """
        from hot_anvil.usecases.hotspots import find_hotspots

        return ResultSet(find_hotspots(self.workspace, builds, snippets, entries, at, seconds))

    def step(
        self,
        candidates: Names = (),
        snippets: Names = (),
        entry: str = "",
        size: str = "",
        replay: str = "",
        call_seconds: float = CALL_SECONDS,
    ) -> "tuple[Stepped, ...]":
        """Step through the same call of each candidate, a BUILD or ENTRY@BUILD.

        ``size`` is a sweep point such as "n=64" ("" for the first); ``replay`` the name of an input
        set that a check kept, whose reference and candidate are taken where none is named.
        """
        from hot_anvil.usecases.stepping import Wanted, step_calls

        wanted = Wanted(size, replay, call_seconds=call_seconds)
        return step_calls(self.workspace, candidates, snippets, entry, wanted)

    def tell_steps(self, stepped: "Stepped", choice: "Choice | None" = None) -> "ShownCall":
        """Return a recorded call with its summary and the steps that are chosen."""
        from hot_anvil.core.trace.records import tell
        from hot_anvil.core.trace.selection import Choice

        return tell(stepped, choice or Choice())

    def part_steps(self, left: "Stepped", right: "Stepped") -> "Parting | Agreement":
        """Return where two recorded calls that were given the same first go apart."""
        from hot_anvil.core.trace.parting import part

        files = {p.file for one in (left, right) for p in one.map.places.values() if p.file}
        return part(left, right, self.source_lines(sorted(files)))

    def launch(
        self,
        candidates: Names = (),
        snippets: Names = (),
        entries: Names = (),
        size: str = "",
        schedulers: "Sequence[Scheduler]" = ("spread",),
        processors: int = 4,
        machine: bool = False,
    ) -> "ResultSet[KernelLaunch]":
        """Launch kernels on the simulated device: counts by line, and which block ran where.

        ``candidates`` are BUILD or ENTRY@BUILD; each scheduler makes a map of blocks of its own,
        the counts are of the first. ``machine``: with the real machine's code.
        """
        from hot_anvil.usecases.launching import launch_kernels

        return ResultSet(
            launch_kernels(
                self.workspace, candidates, snippets, entries, size, schedulers, processors, machine
            )
        )

    @property
    def kept(self) -> Kept:
        """What was answered before."""
        return Kept(self.workspace.store.results)

    def keep(self, answer: "Answer", own: "MachineClass | None" = None) -> int:
        """Keep an answer, of this machine or of a class; return the number to show it again by."""
        from hot_anvil.usecases.answers import keep_answer

        return keep_answer(self.workspace, answer, own)

    def page(self, builds: Names = (), snippets: Names = (), fresh: bool = False) -> "Page":
        """Return what a page tells of the bench, from what was done before.

        ``builds`` are those whose instructions it shows. Nothing is measured, unless ``fresh``.
        """
        from hot_anvil.usecases.pages import fresh_answers, make_page

        if fresh:
            fresh_answers(self.workspace, snippets)
        return make_page(self.workspace, builds, snippets)

    def export(self, snippets: Names = ()) -> "Exported":
        """Return all that an export of the bench holds; ``save_export`` writes it."""
        from hot_anvil.usecases.exporting import gather_export

        return gather_export(self.workspace, snippets)

    def has_kernels(self, snippets: Names = (), candidates: Names = ()) -> bool:
        """Tell whether these candidates of these snippets are kernels."""
        from hot_anvil.usecases.launching import has_kernels

        return has_kernels(self.workspace, snippets, candidates)

    def step_kernel(
        self,
        candidate: str,
        snippets: Names = (),
        entries: Names = (),
        size: str = "",
        block: int = 0,
        thread: int | None = None,
        warp: int | None = None,
    ) -> "ThreadSteps":
        """Follow one thread, or one warp, of one block of a kernel while it is launched."""
        from hot_anvil.usecases.launching import Watched, step_kernel

        watched = Watched(block, thread, warp)
        return step_kernel(self.workspace, candidate, snippets, entries, size, watched)

    def source_lines(self, files: Sequence[str]) -> "Mapping[str, Sequence[str]]":
        """Return the lines of source files, named as the bench names them."""
        from hot_anvil.system.bench.opening import read_sources

        return read_sources(self.bench.root, files)


class Watch:
    """Saves of a bench's files, and what each did to the code of its builds."""

    def __init__(
        self,
        anvil: Anvil,
        builds: Names = (),
        snippets: Names = (),
        entries: Collection[str] = (),
    ) -> None:
        from hot_anvil.system.bench.saves import Saves
        from hot_anvil.usecases.watching import NOTHING, Wanted, first_files

        self.anvil = anvil  # may be another one from the next look on, after a new bench file
        self._wanted = Wanted(tuple(builds), tuple(snippets), tuple(entries))
        self._held = NOTHING
        self._number = 0
        self._saves = Saves(anvil.workspace.store.root)
        self._saves.watch(first_files(anvil.workspace, self._wanted))

    def look(self, files: Sequence[str]) -> "Look":
        """Return what the builds make of the files now, against the last look that compiled."""
        from hot_anvil.usecases.watching import afresh, look, watched_files

        self._saves.take()  # what is saved while this goes on is looked at next
        if self._number:
            self.anvil = Anvil(afresh(self.anvil.workspace))
        found, self._held = look(
            self.anvil.workspace, self._held, self._wanted, self._number, files
        )
        self._number += 1
        self._saves.watch(watched_files(self.anvil.workspace, self._wanted))
        return found

    def saves(self) -> "Iterator[tuple[str, ...]]":
        """Give the files that each save changed, as long as anybody asks; ``look`` first."""
        yield from self._saves.wait()


def _train(workspace: Workspace, snippet: "Snippet", build: "Build") -> "Built":
    """Compile a build with a profile; what that takes is loaded only where a bench has one."""
    from hot_anvil.usecases.profiling import compile_profiled

    return compile_profiled(workspace, snippet, build)


def open_bench(
    path: str | Path,
    builds: Names = (),
    limits: Limits = Limits(),  # noqa: B008 - immutable
    progress: Progress = no_progress,
    project: str = "",
    trust: bool = False,
    elsewhere: Elsewhere | None = None,
) -> Anvil:
    """Open the bench in a folder. Raises RequestError when it is missing or wrong.

    ``builds``, texts such as "gcc -O2", stand in place of its grid; ``project`` is a
    compile_commands.json to take flags of its sources from. ``trust`` lets it have programs run
    that it names itself (compilers, plugins), and keeps that; without it UntrustedError is raised.
    ``elsewhere`` are other machines to compile on: ``hot_anvil.fleets`` joins them.
    """
    from hot_anvil.system.bench.opening import open_bench_file

    bench = open_bench_file(Path(path), trust)
    rest = builds, project, _train, elsewhere
    return Anvil(make_workspace(bench, False, limits, progress, *rest))


def open_source(
    path: str | Path,
    builds: Names = (),
    entries: Sequence[str] = (),
    inputs: Sequence[str] = (),
    sweep: Sequence[str] = (),
    not_promised: Sequence[str] = (),
    limits: Limits = Limits(),  # noqa: B008 - immutable
    progress: Progress = no_progress,
    project: str = "",
    tolerance: Sequence[str] = (),
    trust: bool = False,
    elsewhere: Elsewhere | None = None,
) -> Anvil:
    """Open one bare source file; ``builds`` are texts such as "gcc -O2".

    ``inputs``, ``sweep``, ``not_promised`` and ``tolerance`` are lines of TOML as a bench has them.
    ``trust`` and ``elsewhere`` are as for ``open_bench``: a source's comment may name builds.
    """
    from hot_anvil.system.bench.opening import open_source_file

    bench = open_source_file(
        Path(path), builds, entries, inputs, sweep, not_promised, tolerance, trust
    )
    return Anvil(make_workspace(bench, True, limits, progress, (), project, _train, elsewhere))


def import_export(path: str | Path, folder: str | Path) -> "Imported":
    """Lay an export out as a bench in a new folder; nothing in it is compiled or run."""
    from hot_anvil.usecases.exporting import import_export as lay_out

    return lay_out(Path(path), Path(folder))


def save_export(
    path: str | Path, exported: "Exported", more: "Mapping[str, bytes] | None" = None
) -> None:
    """Write an export into one file, with ``more`` files in it by their names inside."""
    from hot_anvil.usecases.exporting import save_export as save

    save(Path(path), exported, more or {})


def open_kept(path: str | Path) -> Kept:
    """Return what was answered about a bench or a source; raises RequestError where none is."""
    from hot_anvil.usecases.answers import results_at

    return Kept(results_at(Path(path)))


def compare_sources(
    left: Anvil, right: Anvil, builds: tuple[str, str], entries: Collection[str] = ()
) -> "ResultSet[SnippetDiff]":
    """Compare two bare sources, each under a build; ``entries`` may name one function of each."""
    from hot_anvil.usecases.comparison import compare_files

    return ResultSet(compare_files(left.workspace, right.workspace, builds, entries))


def explain(text: str, target: str = "") -> "tuple[Told, ...]":
    """Return what an instruction does, for each instruction set that has it, or one target's.

    ``text`` is a mnemonic, or a whole instruction as the compilers write it.

    Raises RequestError for one that no reference has.
    """
    from hot_anvil.usecases.words import explain_instruction

    return explain_instruction(text, target)


def find_machine(path: str | Path = "", trust: bool = False) -> "Machine":
    """Return the compilers of this machine and what each can do; with those of a bench."""
    from hot_anvil.usecases.toolchains import find_machine as find

    return find(Path(path) if path else None, trust)


def environment() -> tuple[str, ...]:
    """Return notes on what disturbs measurements on this machine."""
    from hot_anvil.system.measure.machine import environment_notes

    return environment_notes()


def examples() -> "tuple[Example, ...]":
    """Return the benches that ship with the tool."""
    from hot_anvil.system.bench.examples import examples as known

    return known()


def lay_out_example(name: str, folder: str | Path) -> tuple[str, ...]:
    """Lay a shipped bench out in a folder; return its files."""
    from hot_anvil.system.bench.examples import lay_out_example as lay_out

    return lay_out(name, Path(folder))


def lay_out_demo(folder: str | Path) -> tuple[str, ...]:
    """Lay the demo bench out in a folder, one that is there as it is; return its files."""
    from hot_anvil.system.bench.examples import lay_out_demo as lay_out

    return lay_out(Path(folder))


def reading_for(isa: str) -> "Change":
    """Return what puts its plain reading beside an instruction of an instruction set."""
    from hot_anvil.usecases.words import reading_for as reading

    return reading(isa)


def start_bench(
    sources: Sequence[str], progress: Progress = no_progress
) -> tuple[Path, tuple[str, ...]]:
    """Write a bench file beside sources; return its folder and the files of the bench."""
    from hot_anvil.usecases.starting import start_from_sources

    return start_from_sources(sources, progress)
