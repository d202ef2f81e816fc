"""Compile experiments, and tell which of them make other code."""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.experiments.records import EditError, Experiment, edited_files
from hot_anvil.core.flags.words import is_level, level_of, parted
from hot_anvil.core.verify.options import CALL_SECONDS
from hot_anvil.errors import AnvilError
from hot_anvil.system.build.edited import store_of_copy
from hot_anvil.system.build.grid import compile_grid
from hot_anvil.system.process.threads import thread_pool
from hot_anvil.system.store.files import read_json
from hot_anvil.usecases.narrowing import code_of
from hot_anvil.usecases.profiling import compile_trained
from hot_anvil.workspace import Workspace


class Candidate(NamedTuple):
    """An experiment as it was compiled."""

    experiment: Experiment
    built: Built | None  # None where it could not even be tried
    code: str | None  # equal for equal code of the entry, None where it was refused
    why: str  # it was refused


class Bases(NamedTuple):
    """What experiments start from."""

    workspace: Workspace
    snippet: Snippet
    built: Built
    texts: Mapping[str, str]  # file -> text, of all files of the bench that were compiled
    symbol: str
    signatures: tuple[Signature, ...]  # of the entry


def texts_of(workspace: Workspace, built: Built) -> dict[str, str]:
    """Return the bench's own files that a build's compilers read, as they were then."""
    out: dict[str, str] = {}
    for unit in built.units:
        out |= read_json(workspace.store.artefact(unit.artefact).sources) or {}
    return out


def build_of(base: Build, experiment: Experiment, style: str) -> Build:
    """Return the build that an experiment is compiled as; the last level that flags say counts."""
    flags = parted((*base.flags, *experiment.flags), style)
    level = level_of(flags)
    kept = [flag for flag in flags if not is_level(flag)]
    first = [level] if level else []
    told = not base.flag_set and not experiment.edits and not experiment.profile  # by its flags
    return base._replace(
        toolchain=experiment.toolchain or base.toolchain,
        flags=tuple(word for flag in (*first, *kept) for word in flag),
        trial="" if told else experiment.name,
    )


def compile_all(bases: Bases, experiments: Sequence[Experiment]) -> list[Candidate]:
    """Compile experiments side by side; one that does not compile is a value like the others."""
    progress = bases.workspace.progress
    done: list[Candidate] = []
    with thread_pool() as pool:
        for candidate in pool.map(lambda one: compile_one(bases, one), experiments):
            done.append(candidate)
            progress("compiling experiments", len(done), len(experiments))
    return done


def compile_one(bases: Bases, experiment: Experiment) -> Candidate:
    """Compile one experiment."""
    try:
        built = _compile(bases, experiment)
    except (AnvilError, EditError) as error:
        return Candidate(experiment, None, None, str(error))
    if built.status != COMPILED:
        return Candidate(experiment, built, None, built.why)
    code = code_of(bases.workspace, built, bases.symbol)
    return Candidate(experiment, built, code, "" if code else "the entry is gone")


def _compile(bases: Bases, experiment: Experiment) -> Built:
    workspace = bases.workspace
    chain = workspace.toolchain(bases.built.build)
    build = build_of(bases.built.build, experiment, workspace.family(chain).style)
    store = workspace.store
    if experiment.edits:
        texts = {**bases.texts, **edited_files(bases.texts, experiment.edits)}
        store = store_of_copy(store, texts)
    if experiment.profile:
        build = build._replace(profiled=True)
        return compile_trained(
            workspace, bases.snippet, build, bases.signatures, store, CALL_SECONDS
        )
    found = workspace.found
    (built,) = compile_grid([(bases.snippet, build)], found.toolchains, found.families, store)
    return built
