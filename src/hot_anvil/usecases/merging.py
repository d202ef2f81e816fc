"""Merge what was measured here with what exports of other machines hold."""

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from hot_anvil.core.fleet.machines import must_be_classes
from hot_anvil.core.fleet.merging import Merged, Source, merge
from hot_anvil.core.fleet.results import measured_of
from hot_anvil.core.results.answers import KeptAnswer
from hot_anvil.errors import RequestError
from hot_anvil.system.store.results import Results
from hot_anvil.usecases.answers import kept_answer, kept_heads
from hot_anvil.usecases.exporting import answers_in

_COMMANDS = ("measure", "pick")


def merge_answers(
    results: Results, files: Sequence[str], snippets: Sequence[str], weights: Mapping[str, float]
) -> Merged:
    """Return what holds over the machines of the answers kept here and of those in exports.

    Raises RequestError for a file that is no export or holds no measurement.
    """
    sources = [s for kept in _kept_here(results, snippets) for s in _sources(kept, "")]
    for file in files:
        kept, unreadable = answers_in(Path(file))
        own = [s for one in kept for s in _sources(one, Path(file).name)]
        if not own:
            why = f" ({unreadable[0]})" if unreadable else ""
            raise RequestError(f"{file}: holds no measurement that can be read{why}.", "merge")
        sources += own
    if snippets:
        sources = [s for s in sources if s.snippet in snippets]
    if not sources:
        raise RequestError(
            f"{results.path.parent}: nothing was measured of what is asked for, here or in the "
            "files. Measuring and picking keep what they measure."
        )
    merged = merge(sources, weights)
    must_be_classes(weights, [one.name for one in merged.classes])
    return merged


def _kept_here(results: Results, snippets: Sequence[str]) -> Iterator[KeptAnswer]:
    for head in kept_heads(results, snippets):
        if head.command in _COMMANDS:
            try:
                yield kept_answer(results, head.number)
            except RequestError:
                continue  # of a version that nothing can read


def _sources(kept: KeptAnswer, file: str) -> Iterator[Source]:
    for result in kept.answer.results:
        measured = measured_of(result)
        if measured is None or not measured.overall:
            continue
        snippet = measured.checked.snippet.name
        codes = {name: code for (own, name), code in kept.answer.codes.items() if own == snippet}
        yield Source(
            file or kept.origin, kept.number, kept.at, kept.machine, kept.machine_text,
            kept.comparable, snippet, measured.measurements, measured.baseline, codes,
        )  # fmt: skip
