"""A workspace: one bench on this machine, with all that the use cases work with.

It is complete when it is made and does not change. A bench with other builds, or with earlier code
beside it, is another workspace. It sees each source as it was when it first compiled it; make a
new one after an edit.
"""

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import wraps
from typing import TYPE_CHECKING, NamedTuple, ParamSpec, TypeVar

from hot_anvil.core.build.builds import Build, Plan, command_line, find_build
from hot_anvil.core.build.planning import plan_builds
from hot_anvil.core.build.records import REFUSED, Built, Unit
from hot_anvil.core.code.records import EMITTED, LINKED, Code, Function, join_codes
from hot_anvil.core.config.locating import with_line
from hot_anvil.core.config.records import Bench, Snippet, find_snippets
from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.errors import RequestError
from hot_anvil.system.bench.settings import with_project_flags
from hot_anvil.system.build.grid import Spread, compile_grid, plan_jobs
from hot_anvil.system.build.jobs import Job, load_code
from hot_anvil.system.build.launcher import confine_by
from hot_anvil.system.measure.machine import machine_identity
from hot_anvil.system.process.progress import Progress, no_progress
from hot_anvil.system.process.scope import COMPILE_SECONDS, Limits, Scope
from hot_anvil.system.store.store import Store
from hot_anvil.system.toolchain.finding import Found, find_toolchains

if TYPE_CHECKING:
    from hot_anvil.system.fleet.class_executor import ClassExecutor

Given = ParamSpec("Given")
Made = TypeVar("Made")
Part = TypeVar("Part")


class Memo:
    """What was compiled, read and followed so far, by names of snippet and build."""

    def __init__(self) -> None:
        self.built: dict[tuple[str, str], Built] = {}
        self.codes: dict[tuple[str, str, str, bool], Code] = {}  # view, with chains of calls
        self.reached: dict[tuple[str, str, str], tuple[Function, ...]] = {}  # by symbol
        self.instructions: dict[tuple[str, str, str], tuple[str, ...]] = {}

    def with_built(self, more: Sequence[Built]) -> "Memo":
        """Return a memo of its own that knows more builds."""
        memo = Memo()
        memo.built = self.built | {(one.snippet.name, one.build.name): one for one in more}
        memo.codes = dict(self.codes)
        return memo


class Workspace(NamedTuple):
    """A bench on this machine, complete and unchanging; see ``make_workspace``."""

    bench: Bench
    found: Found  # families and toolchains of this machine
    plan: Plan  # the builds of the bench here
    store: Store
    scope: Scope
    progress: Progress
    memo: Memo
    trainer: Callable[["Workspace", Snippet, Build], Built] | None = None  # of profiled builds
    spread: Spread | None = None  # compiles on other machines too; None: only here
    executor: "ClassExecutor | None" = None  # checks and measures elsewhere; None: here

    def build(self, name: str) -> Build:
        """Return the build of this name; raises RequestError with the nearest one."""
        return find_build(name, self.plan.builds, self.found.toolchains)

    def toolchain(self, build: Build) -> Toolchain:
        """Return the toolchain of a build."""
        return next(c for c in self.found.toolchains if c.name == build.toolchain)

    def family(self, chain: Toolchain) -> Family:
        """Return the family of a toolchain."""
        return next(f for f in self.found.families if f.name == chain.family)

    def command(self, snippet: Snippet, build: Build) -> str:
        """Return the command line a person types for a build of a snippet."""
        return command_line(build, self.toolchain(build), snippet)

    @property
    def machine(self) -> tuple[str, str]:
        """Where it checks and measures: a short identity, and what that is in words."""
        return self.executor.identity if self.executor else machine_identity()

    def compile(
        self, snippets: Sequence[str] = (), builds: Sequence[Build] = ()
    ) -> tuple[Built, ...]:
        """Return the snippets (all when none is named) under the builds, compiled once."""
        pairs = [
            (snippet, build)
            for snippet in find_snippets(self.bench, snippets)
            for build in self.plan.of[snippet.name]
            if (not builds or build in builds)
            and snippet.sources_for(self.toolchain(build).drivers)
        ]
        missing = [(s, b) for s, b in pairs if (s.name, b.name) not in self.memo.built]
        for built in self.compile_apart(missing) if missing else ():
            self.memo.built[built.snippet.name, built.build.name] = built
        return tuple(self.memo.built[s.name, b.name] for s, b in pairs)

    def compile_named(
        self, names: Sequence[str], snippets: Sequence[str] = ()
    ) -> tuple[Built, ...]:
        """Return the snippets under the builds named, all of the grid when none is.

        Raises RequestError where none of them has a compiler for any source asked for.
        """
        chosen = [self.build(name) for name in names] or list(self.plan.builds)
        compiled = self.compile(snippets, list(dict.fromkeys(chosen)))
        if not compiled:
            raise RequestError("these builds have no compiler for any source asked for.")
        return compiled

    def jobs_of(self, built: Built) -> list[tuple[Job, Unit]]:
        """Return the job of each source of a build of a snippet, with what it made."""
        pair, found = [(built.snippet, built.build)], self.found
        jobs = plan_jobs(pair, found.toolchains, found.families, self.store.root).values()
        units = {unit.source: unit for unit in built.units}
        return [(job, units[job.source]) for job in jobs]

    def compile_apart(self, pairs: Sequence[tuple[Snippet, Build]]) -> tuple[Built, ...]:
        """Return snippets under builds that need not be of the plan."""
        found = self.found
        plain = [pair for pair in pairs if not pair[1].profiled]
        made = compile_grid(
            plain, found.toolchains, found.families, self.store, self.progress, self.spread
        )
        done = {(one.snippet.name, one.build): one for one in made}
        for snippet, build in pairs:
            if build.profiled:
                assert self.trainer
                done[snippet.name, build] = self.trainer(self, snippet, build)
        return tuple(done[snippet.name, build] for snippet, build in pairs)

    def code(self, built: Built, view: str = EMITTED, chains: bool = False) -> Code:
        """Return the code of a build of a snippet; raises RequestError if it is refused.

        With ``chains`` each instruction tells the calls it was inlined through.
        """
        key = built.snippet.name, built.build.name, view, chains
        if key not in self.memo.codes:
            self.memo.codes[key] = self._read(built, view, chains)
        return self.memo.codes[key]

    def _read(self, built: Built, view: str, chains: bool) -> Code:
        if built.status == REFUSED:
            name = built.snippet.name
            raise RequestError(f"{built.build.name} refuses snippet {name}: {built.why}")
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

            chain = self.toolchain(built.build)
            units = zip(codes, built.shown, strict=True)
            codes = [with_chains(code, unit, chain, self.store) for code, unit in units]
        return join_codes(codes)

    def reached(self, built: Built, symbol: str) -> tuple[Function, ...]:
        """Return the functions that one of a build reaches, itself first, found once."""
        from hot_anvil.core.model.call_graph import reached

        key = built.snippet.name, built.build.name, symbol
        if key not in self.memo.reached:
            self.memo.reached[key] = reached(self.code(built), symbol)
        return self.memo.reached[key]

    def reached_bytes(self, built: Built, symbol: str) -> int | None:
        """Return the bytes of a function and all that it reaches, None where it has no symbol."""
        parts = self.reached(built, symbol)
        sizes = [built.entry_bytes(name) for name in {part.owner for part in parts}]
        return sum(size or 0 for size in sizes) if any(sizes) else None

    def instructions_of(self, built: Built, symbol: str) -> tuple[str, ...]:
        """Return what an entry executes, as texts that are equal for equal code."""
        from hot_anvil.core.model.call_graph import folded_into
        from hot_anvil.core.model.entry_body import instructions_of

        key = built.snippet.name, built.build.name, symbol
        if key not in self.memo.instructions:
            own = folded_into(self.code(built), symbol)
            self.memo.instructions[key] = instructions_of(self.reached(built, own), own)
        return self.memo.instructions[key]

    def with_earlier(self, built: Sequence[Built]) -> "Workspace":
        """Return a workspace in which builds of earlier code stand beside those of its code now."""
        of = dict(self.plan.of)
        for one in built:
            of[one.snippet.name] = (*of[one.snippet.name], one.build)
        builds = dict.fromkeys((*self.plan.builds, *(one.build for one in built)))
        plan = self.plan._replace(of=of, builds=tuple(builds))
        return self._replace(plan=plan, memo=self.memo.with_built(built))


class Elsewhere(NamedTuple):
    """What other machines add to a workspace."""

    toolchains: Callable[[Found], Found]  # those of here -> with those that only others have
    spread: Spread


def make_workspace(
    bench: Bench,
    bare: bool = False,
    limits: Limits = Limits(),  # noqa: B008 - immutable
    progress: Progress = no_progress,
    builds: Sequence[str] = (),
    project: str = "",
    trainer: Callable[[Workspace, Snippet, Build], Built] | None = None,
    elsewhere: Elsewhere | None = None,
) -> Workspace:
    """Return the workspace of a bench; ``bare`` for that of a source without a bench file.

    ``trainer`` compiles builds with a profile, which takes a run of the code.
    ``builds``, texts such as "gcc -O2", stand in place of the bench's grid; ``project`` is a
    compile_commands.json to take flags of its sources from; ``elsewhere`` is a fleet to compile on.

    Raises RequestError where the bench asks for what cannot be, MissingError without a compiler.
    """
    if builds:
        # The bench's reference is a build of its grid: the first of these takes its place.
        grid = bench.grid._replace(reference="", baseline="")
        bench = bench._replace(explicit=tuple(builds), grid=grid)
    if project:
        bench = with_project_flags(bench, project)
    limits = Limits(
        limits.at_once or bench.defaults.get("jobs", 0),
        limits.seconds or bench.defaults.get("job_seconds", COMPILE_SECONDS),
        limits.memory or bench.defaults.get("job_memory", 0) << 20,
        limits.free,
    )
    found = find_toolchains(bench.custom, bench.root)
    if elsewhere:
        found = elsewhere.toolchains(found)
    with _lines_named(bench):
        plan = plan_builds(bench, found.toolchains, found.families)
    store = Store(bench.root, bare=bare)
    scope = Scope(limits, None, confine_by(found.toolchains, store, not limits.free))
    spread = elsewhere.spread if elsewhere else None
    return Workspace(bench, found, plan, store, scope, progress, Memo(), trainer, spread)


@contextmanager
def _lines_named(bench: Bench) -> Iterator[None]:
    """Put the line into errors about the bench's file."""
    try:
        yield
    except RequestError as error:
        told = with_line(str(error), bench)
        if told == str(error):
            raise
        raise RequestError(told, error.about) from None


def usecase(function: Callable[Given, Made]) -> Callable[Given, Made]:
    """Make a function, whose first argument is a workspace, run inside the workspace's scope."""

    @wraps(function)
    def scoped(*given: Given.args, **named: Given.kwargs) -> Made:
        workspace = given[0]
        assert isinstance(workspace, Workspace)
        with workspace.scope.entered(), _lines_named(workspace.bench):
            return function(*given, **named)

    return scoped


def in_turn(
    workspace: Workspace, work: Callable[[Part], Made], parts: Sequence[Part], at_once: int = 2
) -> list[Made]:
    """Return what ``work`` makes of each part, one after the other.

    Where other machines do it, so many at once: while they are at one, the next is made ready here.
    """
    if workspace.executor is None:
        return [work(part) for part in parts]
    from hot_anvil.system.process.threads import thread_pool

    with thread_pool(at_once) as pool:
        return list(pool.map(work, parts))
