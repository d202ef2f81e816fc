"""The search for the fastest flags of a whole bench: wide and shallow first.

Most flag sets make code that another one makes too: those are told apart by their code, and never
measured. What is left is checked, measured shortly, and the losers are dropped. The finalists are
measured anew, in fresh processes: what is told of them rests on that measurement alone, so that
having been the luckiest of many in the first one counts for nothing. The baseline takes part.
"""

from collections.abc import Sequence

from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.config.records import Snippet, find_snippets
from hot_anvil.core.experiments.exploring import flag_sets
from hot_anvil.core.flags.case import levels_of
from hot_anvil.core.measure.options import Options
from hot_anvil.core.measure.results import Explored, Picked
from hot_anvil.core.measure.verdict_words import SLOWER
from hot_anvil.core.names import listed
from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.core.verify.options import CheckOptions
from hot_anvil.core.verify.results import Checked
from hot_anvil.errors import RequestError
from hot_anvil.system.toolchain.flags_told import FlagTeller
from hot_anvil.usecases.entries import find_callable
from hot_anvil.usecases.measurement import measure_checked
from hot_anvil.usecases.narrowing import code_of
from hot_anvil.usecases.picking import pick_checked
from hot_anvil.usecases.trial_builds import with_trials
from hot_anvil.usecases.verification import check_snippets
from hot_anvil.workspace import Workspace, usecase

_FINALISTS = 6
_SHALLOW = 0.15  # seconds for a candidate and size at first


@usecase
def explore_snippets(
    workspace: Workspace, snippets: Sequence[str], options: Options, call_seconds: float
) -> tuple[Picked, ...]:
    """Pick the fastest correct candidate of each snippet over many flag sets.

    The compilers are those of the bench. Raises RequestError where there are whole programs only.
    """
    chosen = [s for s in find_snippets(workspace.bench, snippets) if not s.program]
    if not chosen:
        raise RequestError("--explore: these are whole programs; only functions are explored.")
    return tuple(_explore(workspace, one, options, call_seconds) for one in chosen)


def _explore(
    workspace: Workspace, snippet: Snippet, options: Options, call_seconds: float
) -> Picked:
    own = [b for b in workspace.compile([snippet.name]) if b.status == COMPILED]
    if not own:
        raise RequestError(f"snippet {snippet.name} compiles under no build.")
    found = _compiled(workspace, snippet, own)
    symbols = [s.symbol for s in find_callable(workspace, snippet).signatures]
    first: dict[tuple[str | None, ...], Built] = {}
    for built in (b for b in [*own, *found] if b.status == COMPILED):
        first.setdefault(tuple(code_of(workspace, built, s) for s in symbols), built)
    everything = list({b.build: b for b in [*own, *first.values()]}.values())
    baseline = workspace.plan.baseline
    if baseline not in {b.build for b in everything}:
        baseline = own[0].build
    wide = with_trials(workspace, snippet, everything, baseline)
    (checked,) = check_snippets(wide, (), CheckOptions(call_seconds))
    if checked.fault:
        raise checked.fault
    finalists = _finalists(wide, checked, options)
    kept = [b for b in everything if b.build in finalists or b.build == baseline]
    names = {b.build.name for b in kept}
    last = checked._replace(verdicts=tuple(v for v in checked.verdicts if v.build in names))
    final = with_trials(workspace, snippet, kept, baseline)
    picked = pick_checked(final, last, options._replace(tried=True))
    return picked._replace(
        explored=Explored(
            len(found),
            sum(b.status != COMPILED for b in found),
            len(first),
            sum(not v.usable for v in checked.verdicts),
            len(checked.timed),
            len(finalists),
        )
    )


def _compiled(workspace: Workspace, snippet: Snippet, own: Sequence[Built]) -> list[Built]:
    """Compile the snippet under every flag set, with each compiler that the bench uses."""
    names = {b.build.toolchain for b in own}
    pairs = []
    for chain in (c for c in workspace.found.toolchains if c.name in names and c.can["run"]):
        family = workspace.family(chain)
        flags = [b.build.flags for b in own if b.build.toolchain == chain.name]
        language = next(lang for lang in snippet.languages if lang in chain.drivers)
        found = flag_sets(family, chain.isa, flags, _processors(chain, family, language))
        pairs += [(snippet, Build(chain.name, "", one)) for one in dict.fromkeys(found)]
    if not pairs:
        raise RequestError(f"--explore: no flags are known to explore {listed(names)} with.")
    return list(workspace.compile_apart(pairs))


def _processors(chain: Toolchain, family: Family, language: str) -> list[str]:
    """Return the flags for standard levels that this machine's processor is of."""
    macros = FlagTeller(chain, family, language).macros
    here = macros((family.level_flag(chain.isa, "native"),))
    flags = [level.flag for level in levels_of(family, chain.isa)[1:]]
    return [flag for flag in flags if macros((flag,)) and macros((flag,)) <= here]


def _finalists(workspace: Workspace, checked: Checked, options: Options) -> set[Build]:
    """Measure everything shortly; return the builds of the few that may be the fastest."""
    shallow = Options(min(_SHALLOW, options.seconds), options.seed, tried=True)
    measured = measure_checked(workspace, checked, shallow, True)
    if measured.overall is None:
        return set()
    to_best = measured.overall.to_best
    order = sorted(to_best, key=lambda name: to_best[name].verdict.ratio)
    builds = {v.candidate: v.build for v in checked.timed}
    names = dict.fromkeys(builds[n] for n in order if to_best[n].verdict.word != SLOWER)
    by_name = {b.name: b for b in workspace.plan.builds}
    return {by_name[name] for name in list(names)[:_FINALISTS]}
