"""Builds that the bench does not name, tried beside those that it does."""

from collections.abc import Sequence

from hot_anvil.core.build.builds import Build, Plan
from hot_anvil.core.build.records import Built
from hot_anvil.core.code.records import EMITTED
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.diff.records import REMARKED
from hot_anvil.core.measure.results import Measured
from hot_anvil.core.measure.summary import Result
from hot_anvil.usecases.comparison import compare_kept, side_of
from hot_anvil.workspace import Memo, Workspace

_REASONS = 2  # of one difference


def with_trials(
    workspace: Workspace, snippet: Snippet, built: Sequence[Built], baseline: Build
) -> Workspace:
    """Return a workspace of one snippet, under the bench's reference and builds that are tried.

    ``built`` are those, ``baseline`` among them.
    """
    reference = workspace.plan.reference
    builds = tuple(dict.fromkeys((reference, *(one.build for one in built))))
    plan = Plan(builds, reference, baseline, (), {snippet.name: builds})
    bench = workspace.bench._replace(snippets=(snippet,))
    own = [one._replace(snippet=snippet) for one in built]
    return workspace._replace(bench=bench, plan=plan, memo=Memo().with_built(own))


def only_entry(snippet: Snippet, entry: str) -> Snippet:
    """Return a snippet of just one entry, which is its own reference."""
    return snippet._replace(entries=(entry,), reference="")


def by_build(measured: Measured) -> dict[str, Result]:
    """Return the results of builds that are tried, over all sizes, by the names of the builds."""
    results = measured.overall.results if measured.overall else ()
    builds = {v.candidate: v.build for v in measured.checked.verdicts}
    return {builds[result.candidate]: result for result in results}


def main_reasons(workspace: Workspace, left: Built, right: Built, symbol: str) -> tuple[str, ...]:
    """Return why a function's code differs between two builds, the weightiest reasons first."""
    one, other = (side_of(workspace, b, EMITTED, b.build.name) for b in (left, right))
    found = compare_kept(workspace, one, other, {symbol}).explained.reasons
    seen = [r for r in found if r.confidence != REMARKED] or found  # first what the code shows
    ordered = sorted(seen, key=lambda reason: (reason.level, -reason.weight))
    return tuple(reason.text for reason in ordered[:_REASONS])
