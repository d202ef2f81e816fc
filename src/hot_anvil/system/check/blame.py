"""Narrow down where a wrong result comes from, by calls and by builds made for it."""

from collections.abc import Sequence

from hot_anvil.core.code.records import join_codes
from hot_anvil.core.model.call_graph import reached
from hot_anvil.core.verify.agreement import first_difference
from hot_anvil.core.verify.blame import (
    Blame,
    Extent,
    extent,
    only_failing,
    without_optimising,
)
from hot_anvil.core.verify.crash_report import NOWHERE, Place
from hot_anvil.core.verify.promises import REMOVABLE, Promise, without_promise
from hot_anvil.system.bench.opening import read_sources
from hot_anvil.system.build.jobs import load_code
from hot_anvil.system.check.plan import CheckPlan, Evaluated, Oracle, Variant
from hot_anvil.system.check.reaching import reached_by
from hot_anvil.system.check.shrinking import Caller, Side, difference
from hot_anvil.system.execute.calls import PreparedInputs, run_trial

_MOST_FUNCTIONS = 8  # built without optimising, one at a time
_EDITABLE = (".c", ".cc", ".cpp", ".cxx")


def find_blame(
    plan: CheckPlan,
    ready: PreparedInputs,
    oracle: Oracle,
    evaluated: Evaluated,
    at: int,
    known: bool,
) -> Blame:
    """Return what is known of where a candidate's result on an input set goes wrong.

    ``known``: a sanitizer said why; no flags are tried then.
    """
    search = _Search(plan, ready, oracle, evaluated, at)
    functions = search.functions()
    between = functions[0] if functions else None
    told = []
    lines = search.lines_of_failing()
    if lines:
        shown = ", ".join(str(place.line) for place in lines)
        noun = "line" if len(lines) == 1 else "lines"
        told.append(f"only with inputs that it fails on it runs {noun} {shown} of {lines[0].file}")
        return Blame(tuple(told), lines[0], between)
    told += [] if known else search.cures(of_the_target=True)
    if not told and search.is_the_optimisers():
        broken = search.broken_promise()
        if broken:
            what = f"it is right without the promise at {broken.place.text}, {broken.word}"
            return Blame((f"{what}: {broken.means}",), broken.place, between)
        told += [] if known else search.cures()
        for one in functions[:_MOST_FUNCTIONS] if len(functions) > 1 else ():
            if search.is_right(Variant(edited=search.unoptimised(one))):
                told.append(f"it is right where only {one.text} are compiled without optimising")
                between = one
                break
    line = between and between.first == between.last
    place = Place(between.file, between.first) if between and line else NOWHERE
    return Blame(tuple(told), place, between)


class _Search:
    """One wrong candidate, and the experiments on it."""

    def __init__(
        self, plan: CheckPlan, ready: PreparedInputs, oracle: Oracle, evaluated: Evaluated, at: int
    ) -> None:
        self._plan, self._ready, self._oracle = plan, ready, oracle
        self._built, self._at = evaluated.built, at
        self._layout = evaluated.finding.layout

    def functions(self) -> list[Extent]:
        """Return the lines of the entry and of what it calls, in the bench's own sources."""
        codes = [load_code(unit, self._plan.store) for unit in self._plan.reference_built.shown]
        found = reached(join_codes(codes), self._ready.signature.symbol) if codes else ()
        extents = (extent(function) for function in found)
        own = set(self._plan.snippet.sources)
        return list(dict.fromkeys(one for one in extents if one and one.file in own))

    def lines_of_failing(self) -> list[Place]:
        """Return the lines that only the calls reach whose results are wrong."""
        plan, ready = self._plan, self._ready
        program = plan.programs[self._built.build.name]
        trial = run_trial(program.path, ready, self._layout)
        failing: list[int] = []
        agreeing: list[int] = []
        for index, (wanted, got) in enumerate(
            zip(self._oracle.expected, trial.outputs, strict=True)
        ):
            if wanted and got and index not in self._oracle.excused:
                said, _ = first_difference(
                    self._oracle.signature, wanted, ready.signature, got, ready.sets[index],
                    plan.snippet.tolerance,
                )  # fmt: skip
                (failing if said else agreeing).append(index)
        if not (failing and agreeing):
            return []
        made = plan.reach()
        bad, good = (reached_by(made, ready.only(k), plan.store) for k in (failing, agreeing))
        return only_failing(bad, good) if good else []

    def is_the_optimisers(self) -> bool:
        """Tell whether the same entry is right as the reference is built, and wrong alone too."""
        plan = self._plan
        program = plan.programs.get(plan.reference_build)
        if program is None or program.why or self._built.build.name == plan.reference_build:
            return False
        mine = plan.programs[self._built.build.name].path
        return self._agrees(program.path) and not self._agrees(mine)

    def broken_promise(self) -> Promise | None:
        """Return the promise of the source without which it is right."""
        for promise in self._plan.promises:
            if promise.word in REMOVABLE:
                file = promise.place.file
                text = without_promise(self._lines(file), promise)
                if self.is_right(Variant(edited={file: text})):
                    return promise
        return None

    def cures(self, of_the_target: bool = False) -> list[str]:
        """Return in words which flags make it right; where several do, none is the cause.

        Those that undo what the target does by itself are tried apart.
        """
        every_cure = self._plan.experiments.cures(self._built)
        cures = [cure for cure in every_cure if bool(cure.isas) == of_the_target]
        every = tuple(flag for cure in cures for flag in cure.flags)
        if not cures or not self.is_right(Variant(every)):
            return []
        helping = [cure for cure in cures if self.is_right(Variant(cure.flags))]
        flags = [" ".join(cure.flags) for cure in helping]
        if len(helping) == 1:
            return [f"only {flags[0]} makes it right, as where {helping[0].means}"]
        return ["it is right with " + " or ".join(flags)] if helping else []

    def unoptimised(self, where: Extent) -> dict[str, str]:
        """Return the edited source in which one function is not optimised."""
        if not where.file.endswith(_EDITABLE):
            return {}
        family = self._plan.experiments.family(self._built)
        try:
            return {where.file: without_optimising(self._lines(where.file), where, family)}
        except ValueError:
            return {}

    def _lines(self, file: str) -> Sequence[str]:
        return read_sources(self._plan.bench.root, [file])[file]

    def is_right(self, variant: Variant) -> bool:
        """Tell whether a variant of the build comes out right; no when it cannot be built."""
        if not (variant.flags or variant.edited):
            return False
        program = self._plan.experiments.vary(self._built, variant)
        return not program.why and self._agrees(program.path)

    def _agrees(self, path: str) -> bool:
        plan, ready = self._plan, self._ready
        watched = ready.variables
        sides = (
            Side(self._oracle.path, self._oracle.entry, self._oracle.signature, 0, watched),
            Side(path, ready.entry, ready.signature, self._layout, watched),
        )
        reference, candidate = (Caller(side, plan.bench.root, plan.call_seconds) for side in sides)
        try:
            said, _, _ = difference(
                reference, candidate, ready.sets[self._at], plan.snippet.tolerance
            )
        finally:
            reference.close()
            candidate.close()
        return not said
