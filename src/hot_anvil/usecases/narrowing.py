"""Which of the flags in which two builds differ matter for an entry."""

from collections.abc import Collection, Iterator, Sequence

from hot_anvil.core.arch import has_objects
from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.code.records import EMITTED, find_functions, find_symbols
from hot_anvil.core.config.records import Snippet, language_of
from hot_anvil.core.flags.case import Case, Flags, levels_of
from hot_anvil.core.flags.entry_code import ObjectCode, entry_digest
from hot_anvil.core.flags.records import (
    Change,
    Effect,
    Narrowed,
    Needed,
    Timed,
    with_changes,
    without_change,
)
from hot_anvil.core.flags.search import search
from hot_anvil.core.flags.words import parted
from hot_anvil.core.measure.options import Options
from hot_anvil.core.names import listed
from hot_anvil.core.verify.options import CALL_SECONDS
from hot_anvil.errors import RequestError
from hot_anvil.system.build.jobs import links_late
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.toolchain.flags_told import FlagTeller
from hot_anvil.usecases.trial_builds import by_build, main_reasons, only_entry, with_trials
from hot_anvil.workspace import Workspace, usecase


class Trials:
    """Compiles of one snippet under many sets of flags, each made once."""

    def __init__(self, workspace: Workspace, snippet: Snippet, toolchain: str) -> None:
        self.workspace, self.snippet, self.toolchain = workspace, snippet, toolchain
        self._built: dict[Flags, Built] = {}
        self._codes: dict[tuple[Flags, str], str | None] = {}

    def built(self, flags: Flags) -> Built:
        """Return the snippet under some flags."""
        if flags not in self._built:
            build = Build(self.toolchain, "", flags)
            (self._built[flags],) = self.workspace.compile_apart([(self.snippet, build)])
        return self._built[flags]

    def side_by_side(self, several: Sequence[Flags]) -> None:
        """Compile several sets of flags at once."""
        new = [flags for flags in dict.fromkeys(several) if flags not in self._built]
        pairs = [(self.snippet, Build(self.toolchain, "", flags)) for flags in new]
        if pairs:
            self._built |= zip(new, self.workspace.compile_apart(pairs), strict=True)

    def code(self, flags: Flags, symbol: str) -> str | None:
        """Return what is equal for equal code of a function, None where it was not compiled."""
        key = flags, symbol
        if key not in self._codes:
            self._codes[key] = code_of(self.workspace, self.built(flags), symbol)
        return self._codes[key]

    def asked(self, symbol: str) -> int:
        """Return how many sets of flags were compiled for a function."""
        return sum(1 for _, own in self._codes if own == symbol)


def code_of(workspace: Workspace, built: Built, symbol: str) -> str | None:
    """Return what is equal for equal code of a build's function, None where there is none."""
    if built.status != COMPILED:
        return None
    units = [unit.artefact for unit in built.shown]
    name = digest(f"entry code {stage_digest('flags')}", symbol, *units)

    def make(_work: object) -> str:
        functions = workspace.reached(built, symbol)
        if not functions:
            return ""
        objects = None
        if has_objects(workspace.toolchain(built.build).isa) and not built.whole:
            files = [workspace.store.artefact(unit).object for unit in units]
            objects = ObjectCode([file.read_bytes() for file in files])
        return entry_digest(functions, symbol, objects)

    return workspace.store.derive(name, make) or None


@usecase
def narrow_builds(
    workspace: Workspace,
    left: str,
    right: str,
    snippets: Sequence[str] = (),
    entries: Collection[str] = (),
    options: Options | None = None,
    call_seconds: float = CALL_SECONDS,
) -> tuple[Narrowed, ...]:
    """Find, for each entry, a smallest set of flags that makes the right build's code of the left.

    With ``options`` what each flag is worth is measured too.

    Raises RequestError where the builds are not of one compiler or make their code while linking.
    """
    one, other = workspace.build(left), workspace.build(right)
    if one.toolchain != other.toolchain:
        raise RequestError(
            f"{one.name} and {other.name} are of two compilers: flags of one mean something else "
            "in another. Name two builds of one."
        )
    for build in (one, other):
        if links_late(build.flags):
            raise RequestError(
                f"{build.name} makes its code while linking, and so does every build on the way to "
                "it: narrow compares what compiling makes. Name builds without -flto."
            )
    compiled = workspace.compile(snippets, [one, other])
    if not compiled:
        raise RequestError(f"{one.name} has no compiler for any source asked for.")
    codes = [workspace.code(built) for built in compiled]  # raises where one is refused
    if entries:
        find_symbols(entries, codes)  # raises where one is nowhere
    out = []
    for snippet in dict.fromkeys(b.snippet.name for b in compiled):
        own = next(b.snippet for b in compiled if b.snippet.name == snippet)
        trials = Trials(workspace, own, one.toolchain)
        for symbol, title in _entries(workspace, trials, (one, other), entries):
            narrowed = _narrow(workspace, trials, (one, other), symbol, title)
            if options and narrowed.needed:
                timed = _timed(trials, (one, other), narrowed, options, call_seconds)
                narrowed = narrowed._replace(timed=timed)
            out.append(narrowed)
    return tuple(out)


def _entries(
    workspace: Workspace, trials: Trials, builds: tuple[Build, Build], names: Collection[str]
) -> Iterator[tuple[str, str]]:
    """Give (symbol, name) of the functions asked for, or of the snippet's entries."""
    codes = []
    for build in builds:
        built = trials.built(_joined(build, workspace))
        codes.append(workspace.code(built, EMITTED))  # raises where it is refused
    wanted = list(names) or list(trials.snippet.entries)
    if not wanted:
        own = [dict.fromkeys(f.owner for f in code.functions) for code in codes]
        both = [symbol for symbol in own[0] if symbol in own[1]]
        if len(both) != 1:
            titles = [codes[0].title(symbol) for symbol in both]
            raise RequestError(
                f"{trials.snippet.name} has several functions, and none is named as its entry: "
                f"name one with --entry. They are: {listed(titles)}."
            )
        wanted = both
    for name in wanted:
        for symbol in sorted(find_functions(codes, name)):
            yield symbol, codes[0].title(symbol)


def _joined(build: Build, workspace: Workspace) -> Flags:
    """Return a build's flags with the words of each that belong together as one."""
    style = workspace.family(workspace.toolchain(build)).style
    return tuple(word for flag in parted(build.flags, style) for word in flag)


class _Asked:
    """A compiler and its code, asked about one function."""

    def __init__(self, trials: "Trials", teller: FlagTeller, symbol: str, goal: str) -> None:
        self._trials, self._symbol, self._goal = trials, symbol, goal
        self.told, self.macros = teller.told, teller.macros

    def same(self, flags: Flags) -> bool | None:
        code = self._trials.code(flags, self._symbol)
        return None if code is None else code == self._goal

    def complaint(self, flags: Flags) -> str:
        built = self._trials.built(flags)
        return " ".join([built.why, *(d.message for d in built.diagnostics)])


def _narrow(
    workspace: Workspace, trials: Trials, builds: tuple[Build, Build], symbol: str, title: str
) -> Narrowed:
    one, other = builds
    left, right = _joined(one, workspace), _joined(other, workspace)
    chain = workspace.toolchain(one)
    family = workspace.family(chain)
    language = language_of(trials.snippet.sources_for(chain.drivers)[0])
    teller = FlagTeller(chain, family, language)
    goal = trials.code(right, symbol)
    start = trials.code(left, symbol)
    command = workspace.command(trials.snippet, other)
    empty = Narrowed(
        trials.snippet.name, title, symbol, one.name, other.name, start == goal, 0, (), left,
        command, command, "", "", "", (), (), False, False, 2,
    )  # fmt: skip
    if start == goal:
        here = workspace.command(trials.snippet, one)
        return empty._replace(command=here)
    if goal is None or start is None:
        gone = other.name if goal is None else one.name
        return empty._replace(fault=f"{gone} has no code for it: it may be inlined everywhere")
    asked = _Asked(trials, teller, symbol, goal)
    case = Case(asked, family.style, left, right, levels_of(family, chain.isa))
    found = search(case)
    empty = empty._replace(compiles=trials.asked(symbol), refused=found.refused)
    if found.chosen is None:
        return empty._replace(fault="no flags that are told of, together, make its code")
    needed = tuple(_needed(trials, (left, right), symbol, c) for c in found.chosen)
    flags = with_changes(left, found.chosen)
    build = Build(one.toolchain, "", flags)
    return empty._replace(
        pool=found.pool,
        needed=needed,
        flags=flags,
        command=workspace.command(trials.snippet, build),
        unexplained=found.unexplained,
        level=found.level,
        beyond=found.beyond,
        made_for=found.made_for,
        saves=set(flags) != set(right),
        adds_instructions=found.asks_for_more,
        checked=found.checked,
    )


def _needed(trials: Trials, sides: tuple[Flags, Flags], symbol: str, change: Change) -> Needed:
    left, right = sides
    added, less = with_changes(left, [change]), without_change(right, change)
    trials.side_by_side([added, less])
    return Needed(
        change, _effect(trials, left, added, symbol), _effect(trials, less, right, symbol)
    )


def _effect(trials: Trials, before: Flags, after: Flags, symbol: str) -> Effect:
    """Return what lies between two sets of flags for a function."""
    workspace = trials.workspace
    built = [trials.built(flags) for flags in (before, after)]
    why = next((b.why for b in built if b.status != COMPILED), "")
    if why:
        return Effect(None, why, (), None, None)
    counts = [sum(len(f.instructions) for f in workspace.reached(b, symbol)) for b in built]
    one, other = (code_of(workspace, b, symbol) for b in built)
    if one == other:
        return Effect(True, "", (), *counts)
    return Effect(False, "", main_reasons(workspace, built[0], built[1], symbol), *counts)


_Role = tuple[str, str, Flags]  # what it is, the change, all flags


def _timed(
    trials: Trials,
    builds: tuple[Build, Build],
    narrowed: Narrowed,
    options: Options,
    call_seconds: float,
) -> tuple[Timed, ...]:
    """Measure the builds with one change more, or one less, beside the two themselves."""
    from hot_anvil.usecases.measurement import check_to_measure, measure_checked

    workspace = trials.workspace
    left, right = (_joined(build, workspace) for build in builds)
    roles: list[_Role] = [("left", "", left), ("right", "", right)]
    for needed in narrowed.needed:
        name = needed.change.name
        if needed.taken.same is False:
            roles.append(("right without it", name, without_change(right, needed.change)))
        if needed.alone.same is False:
            roles.append(("left with it", name, with_changes(left, [needed.change])))
    snippet = only_entry(trials.snippet, narrowed.entry)
    built = [trials.built(flags) for _, _, flags in roles]
    tried = with_trials(workspace, snippet, built, built[0].build)
    (checked,) = check_to_measure(tried, (), options, call_seconds)
    measured = measure_checked(tried, checked, options._replace(tried=True))
    verdicts = {v.build: v for v in checked.verdicts}
    results = by_build(measured)
    out = []
    for (what, change, _), one in zip(roles, built, strict=True):
        verdict = verdicts[one.build.name]
        out.append(
            Timed(
                one.build.name, what, change, verdict.verdict, verdict.why,
                results.get(one.build.name),
            )
        )  # fmt: skip
    return tuple(out)
