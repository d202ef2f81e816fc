"""The Python API: open a bench or a source, then compile, compare, check, measure, pick.

    import hot_anvil

    workshop = hot_anvil.open_bench("tide-gauge")
    for built in workshop.compile():
        print(built.build.name, built.status, built.code_bytes)
    diff = workshop.diff("gcc:plain", "gcc:fast")
    picks = workshop.pick()

Every step does the steps before it when they are still missing. Records are
immutable named tuples; see ``hot_anvil.core``.
"""

from collections.abc import Collection, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from hot_anvil.core.asm.listing import list_functions
from hot_anvil.core.build.builds import Build, Plan, command_line, find_build
from hot_anvil.core.build.planning import plan_builds
from hot_anvil.core.build.records import COMPILED, REFUSED, Built
from hot_anvil.core.code.records import (
    EMITTED,
    LINKED,
    Code,
    find_symbols,
    join_codes,
    only_functions,
)
from hot_anvil.core.config.records import Bench, Snippet, find_snippets
from hot_anvil.core.measure.options import AS_USUAL, How
from hot_anvil.core.results.code import Listing, SnippetDiff
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.errors import RequestError
from hot_anvil.system.bench.opening import open_bench_file, open_source_file, read_sources
from hot_anvil.system.build.grid import Progress, compile_grid, no_progress
from hot_anvil.system.build.jobs import load_code
from hot_anvil.system.store.store import Store
from hot_anvil.system.toolchain.finding import Found, find_toolchains

if TYPE_CHECKING:
    from hot_anvil.core.binary.frame_layout import BuildFrame
    from hot_anvil.core.binary.signatures import Signature
    from hot_anvil.core.diff.ledger import Ledger
    from hot_anvil.core.facts.expectations import Expected
    from hot_anvil.core.facts.table import SnippetFacts
    from hot_anvil.core.measure.hotspots import Hot
    from hot_anvil.core.measure.results import Again, Checked, Measured, Picked
    from hot_anvil.core.proof.records import DebugProof
    from hot_anvil.system.build.linking import Program

DEFAULT_CALL_SECONDS = 5.0


__all__ = ["How", "Workshop", "open_bench", "open_source"]


class Workshop:
    """A bench on this machine, with its store of results.

    A workshop sees each source as it was when it first compiled it; open a new
    one after an edit.
    """

    def __init__(self, bench: Bench, bare: bool = False, progress: Progress = no_progress) -> None:
        self.bench = bench
        self.progress = progress
        self.store = Store(bench.root, bare)
        self.jobs = 0  # compilers at once, 0 for as many as there are cores
        self._built: dict[tuple[str, str], Built] = {}

    def limit(
        self, jobs: int | None = None, seconds: int | None = None, memory: int | None = None
    ) -> None:
        """Limit compiling: how many at once, seconds and megabytes for each; None leaves it."""
        from hot_anvil.system.process.limits import limits

        self.jobs = jobs or self.jobs
        limits.seconds = float(seconds or limits.seconds)
        limits.memory = (memory << 20) if memory else limits.memory

    @cached_property
    def found(self) -> Found:
        """Families and toolchains of this machine."""
        return find_toolchains(self.bench.custom, self.bench.root)

    @cached_property
    def plan(self) -> Plan:
        """The builds of this bench on this machine."""
        return plan_builds(self.bench, self.found.toolchains, self.found.families)

    def build(self, name: str) -> Build:
        """Return the build of this name; raises RequestError with the nearest one."""
        return find_build(name, self.plan.builds, self.found.toolchains)

    def toolchain(self, build: Build) -> Toolchain:
        """Return the toolchain of a build."""
        return next(c for c in self.found.toolchains if c.name == build.toolchain)

    def command(self, snippet: Snippet, build: Build) -> str:
        """Return the command line a person types for a build of a snippet."""
        return command_line(build, self.toolchain(build), snippet)

    def compile(
        self, snippets: Sequence[str] = (), builds: Sequence[Build] = ()
    ) -> tuple[Built, ...]:
        """Compile the snippets (all when none is named) under the builds (all when none)."""
        chosen = find_snippets(self.bench, snippets)
        pairs = [
            (snippet, build)
            for snippet in chosen
            for build in self.plan.of[snippet.name]
            if (not builds or build in builds)
            and snippet.sources_for(self.toolchain(build).drivers)
        ]
        missing = [(s, b) for s, b in pairs if (s.name, b.name) not in self._built]
        if missing:
            found = self.found
            known = found.toolchains, found.families
            made = compile_grid(missing, *known, self.store, self.progress, self.jobs)
            self._built.update({(b.snippet.name, b.build.name): b for b in made})
        return tuple(self._built[s.name, b.name] for s, b in pairs)

    def take_earlier(self, built: Sequence[Built]) -> None:
        """Let builds of earlier code of a snippet take part beside those of its code now."""
        of = dict(self.plan.of)
        for one in built:
            self._built[one.snippet.name, one.build.name] = one
            of[one.snippet.name] = (*of[one.snippet.name], one.build)
        builds = dict.fromkeys((*self.plan.builds, *(one.build for one in built)))
        self.plan = self.plan._replace(of=of, builds=tuple(builds))

    def listing(
        self,
        build: str,
        snippets: Sequence[str] = (),
        entries: Collection[str] = (),
        view: str = EMITTED,
    ) -> tuple[Listing, ...]:
        """Return each snippet's code under one build; raises RequestError if it is refused.

        ``view`` is EMITTED or LINKED. What was made while linking has no other.
        """
        builds = self.compile(snippets, [self.build(build)])
        if not builds:
            raise RequestError(f"{build}: this build has no compiler for any source asked for.")
        codes = [self.code(built, view, True) for built in builds]
        symbols = find_symbols(entries, codes)
        out = []
        for built, code in zip(builds, codes, strict=True):
            shown = only_functions(code, symbols) if entries else code
            sources = read_sources(self.bench.root, shown.files)
            functions = list_functions(shown, sources)
            if functions or not entries:
                out.append(Listing(built, functions, shown.isa, shown.view))
        return tuple(out)

    def library_listing(self, build: str, function: str) -> Listing:
        """Return a library function's own code, as a build's toolchain would link it."""
        from hot_anvil.system.build.library_code import library_function

        chosen = self.build(build)
        found = library_function(function, self.toolchain(chosen), chosen.flags, self.store)
        snippet = self.bench.snippets[0]
        titles = {f.name: f.name.partition("@")[0] for f in found.code.functions}
        functions = list_functions(found.code._replace(titles=titles), {})
        nothing = Built(snippet, chosen, (), False)
        return Listing(nothing, functions, found.code.isa, LINKED, found.path, found.note)

    def diff(
        self,
        left: str,
        right: str,
        snippets: Sequence[str] = (),
        entries: Collection[str] = (),
        view: str = EMITTED,
    ) -> tuple[SnippetDiff, ...]:
        """Compare each snippet on two sides; raises RequestError if one is refused.

        A side is a build, or ENTRY@BUILD: two entries are compared through
        their instructions.
        """
        from hot_anvil.usecases.comparison import compare_builds

        return compare_builds(self, left, right, snippets, entries, view)

    def diff_edit(
        self,
        build: str,
        steps: int = 1,
        snippets: Sequence[str] = (),
        entries: Collection[str] = (),
    ) -> tuple[SnippetDiff, ...]:
        """Compare what a build made of the source ``steps`` edits ago with what it makes now."""
        from hot_anvil.usecases.comparison import compare_edit

        return compare_edit(self, build, steps, snippets, entries)

    def ledger(
        self,
        builds: Sequence[str] = (),
        snippets: Sequence[str] = (),
        entries: Collection[str] = (),
    ) -> tuple["Ledger", ...]:
        """Return each snippet's instruction counts by source line under many builds."""
        from hot_anvil.usecases.comparison import make_ledgers

        return make_ledgers(self, builds, snippets, entries)

    def facts(
        self,
        builds: Sequence[str] = (),
        snippets: Sequence[str] = (),
        entries: Collection[str] = (),
    ) -> tuple["SnippetFacts", ...]:
        """Return each snippet's facts about functions and loops under many builds."""
        from hot_anvil.usecases.inspection import make_facts

        return make_facts(self, builds, snippets, entries)

    def expect(
        self, builds: Sequence[str] = (), snippets: Sequence[str] = ()
    ) -> tuple["Expected", ...]:
        """Return whether the bench's expectations hold."""
        from hot_anvil.usecases.inspection import check_expectations

        return check_expectations(self, builds, snippets)

    def frames(
        self, build: str, snippets: Sequence[str] = (), entries: Collection[str] = ()
    ) -> tuple["BuildFrame", ...]:
        """Return where the variables of each function live under one build."""
        from hot_anvil.usecases.inspection import make_frames

        return make_frames(self, build, snippets, entries)

    def check(
        self,
        snippets: Sequence[str] = (),
        call_seconds: float = DEFAULT_CALL_SECONDS,
        repeat: int = 2,
    ) -> tuple["Checked", ...]:
        """Judge every candidate of the snippets against the reference.

        ``call_seconds`` bounds each call. ``repeat`` calls on each input set
        find what only sometimes comes out otherwise.
        """
        from hot_anvil.usecases.verification import check_snippets

        return check_snippets(self, snippets, call_seconds, repeat)

    def again(self, name: str, call_seconds: float = DEFAULT_CALL_SECONDS) -> "Again":
        """Call a candidate once more on an input set that a check found to fail."""
        from hot_anvil.usecases.verification import check_again

        return check_again(self, name, call_seconds)

    def measure(
        self,
        snippets: Sequence[str] = (),
        how: How = AS_USUAL,
        call_seconds: float = DEFAULT_CALL_SECONDS,
    ) -> tuple["Measured", ...]:
        """Check, then measure what is correct."""
        from hot_anvil.usecases.measurement import measure_checked

        checked = self.check(snippets, call_seconds)
        return tuple(measure_checked(self, one, how) for one in checked)

    def pick(
        self,
        snippets: Sequence[str] = (),
        how: How = AS_USUAL,
        call_seconds: float = DEFAULT_CALL_SECONDS,
    ) -> tuple["Picked", ...]:
        """Do the whole job and choose the fastest correct candidate of each snippet."""
        from hot_anvil.usecases.picking import pick_checked

        checked = self.check(snippets, call_seconds)
        return tuple(pick_checked(self, one, how) for one in checked)

    def hotspots(
        self,
        builds: Sequence[str] = (),
        snippets: Sequence[str] = (),
        entries: Sequence[str] = (),
        at: str = "",
        seconds: float = 1.0,
    ) -> tuple["Hot", ...]:
        """Look where the time of correct candidates goes, by source line and instruction.

        ``at`` is a sweep point such as "n=4096" ("" for the last); ``seconds`` is for each
        candidate.
        """
        from hot_anvil.usecases.hotspots import look_for_hotspots

        return look_for_hotspots(self, builds, snippets, entries, at, seconds)

    def signatures(self, snippet: Snippet) -> tuple["Signature", ...]:
        """Return how to call the snippet's entries, from its reference build."""
        from hot_anvil.usecases.entries import find_callable

        return find_callable(self, snippet).signatures

    def functions(self, snippet: Snippet) -> tuple["Signature", ...]:
        """Return how to call every function of the snippet that others can call."""
        from hot_anvil.usecases.entries import known_functions

        return known_functions(self, snippet)

    def link(
        self,
        builds: Sequence[Built],
        signatures: Sequence["Signature"],
        placement: int,
        form: str = "worker",
    ) -> dict[str, "Program"]:
        """Return the program of each build that compiled, its code at ``placement``.

        ``form`` is one of system/linking.py: a program, or a library to be loaded.
        """
        from hot_anvil.system.build.link_command import host_toolchain
        from hot_anvil.system.build.linking import Program, link_program
        from hot_anvil.system.process.threads import thread_pool

        host = host_toolchain(self.found.toolchains)
        drivers: Mapping[str, Built] = {}
        if builds and builds[0].snippet.driver:
            from hot_anvil.usecases.entries import compile_drivers

            drivers = compile_drivers(self, builds[0].snippet, builds)

        def link(built: Built) -> Program:
            chain = self.toolchain(built.build)
            if not chain.can["run"]:
                return Program("", f"code for {chain.target} does not run on this machine", "")
            driver = drivers.get(built.build.toolchain)
            more = placement, driver, form
            return link_program(built, signatures, chain, host, self.store, *more)

        usable = [built for built in builds if built.status == COMPILED]
        with thread_pool() as pool:
            return dict(zip((b.build.name for b in usable), pool.map(link, usable), strict=True))

    def prove_debug(self, builds: Sequence[Built]) -> dict[tuple[str, str], "DebugProof"]:
        """Return whether our debug flag changes code: (snippet, build) -> proof.

        Every build that compiled is compiled once more without it.
        """
        from hot_anvil.system.build.debug_flag import prove_debug
        from hot_anvil.system.build.grid import plan_jobs
        from hot_anvil.system.process.threads import thread_pool

        usable = [b for b in builds if b.status == COMPILED]
        known = self.found.toolchains, self.found.families, self.store.root
        jobs = plan_jobs([(b.snippet, b.build) for b in usable], *known)

        def prove(built: Built) -> "DebugProof":
            own = (built.snippet.name, built.build.name)
            mine = {key[1]: job for key, job in jobs.items() if (key[0], key[2]) == own}
            return prove_debug(built, mine, self.store)

        with thread_pool(self.jobs) as pool:
            proofs = list(pool.map(prove, usable))
        keys = [(b.snippet.name, b.build.name) for b in usable]
        return dict(zip(keys, proofs, strict=True))

    def code(self, built: Built, view: str = EMITTED, chains: bool = False) -> Code:
        """Return the code of a build of a snippet; raises RequestError if it is refused.

        With ``chains`` each instruction tells the calls it was inlined through.
        """
        if built.status == REFUSED:
            raise RequestError(
                f"{built.build.name} refuses snippet {built.snippet.name}: {built.why}"
            )
        chain = self.toolchain(built.build)
        if view == LINKED and not built.whole:
            from hot_anvil.system.build.link_time import link_whole

            found = self.found
            whole = link_whole(built, found.toolchains, found.families, self.store)
            if whole.status == REFUSED:
                raise RequestError(f"{built.build.name}: no linked view: {whole.why}")
            return load_code(whole, self.store)
        codes = [load_code(unit, self.store) for unit in built.shown]
        if chains:
            from hot_anvil.system.build.reading_back import with_chains

            units = zip(codes, built.shown, strict=True)
            codes = [with_chains(code, unit, chain, self.store) for code, unit in units]
        return join_codes(codes)


def open_bench(path: str | Path, progress: Progress = no_progress) -> Workshop:
    """Open the bench in a folder. Raises RequestError when it is missing or wrong."""
    return Workshop(open_bench_file(Path(path)), progress=progress)


def open_source(
    path: str | Path,
    builds: Sequence[str] = (),
    entries: Sequence[str] = (),
    inputs: Sequence[str] = (),
    sweep: Sequence[str] = (),
    progress: Progress = no_progress,
    not_promised: Sequence[str] = (),
) -> Workshop:
    """Open one bare source file; ``builds`` are texts such as "gcc -O2"."""
    bench = open_source_file(Path(path), builds, entries, inputs, sweep, not_promised)
    return Workshop(bench, True, progress)
