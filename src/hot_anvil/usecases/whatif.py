"""What would help: experiments on one entry, compiled, compared, checked and measured."""

from collections.abc import Collection, Mapping, Sequence

from hot_anvil.core.build.records import Built
from hot_anvil.core.code.records import find_symbols
from hot_anvil.core.config.records import language_of
from hot_anvil.core.experiments.edits import edits_of
from hot_anvil.core.experiments.flags import (
    compilers_to_try,
    flags_to_try,
    levels_to_try,
    processors_to_try,
    profile_to_try,
)
from hot_anvil.core.experiments.patches import patch_of
from hot_anvil.core.experiments.records import SECONDS, EditError, Experiment, together
from hot_anvil.core.experiments.results import (
    MEASURED,
    NO_CHANGE,
    NOT_TIMED,
    REFUSED,
    SAME,
    WRONG,
    Tried,
    WhatIf,
)
from hot_anvil.core.experiments.subject import Subject, values_of
from hot_anvil.core.experiments.syntax import Source, able
from hot_anvil.core.inputs.spec import sweep_points
from hot_anvil.core.measure.options import Options
from hot_anvil.core.measure.results import Measured
from hot_anvil.core.measure.verdict_words import SLOWER
from hot_anvil.core.names import listed
from hot_anvil.core.remarks.records import MISSED
from hot_anvil.core.verify.options import CALL_SECONDS
from hot_anvil.core.verify.results import Checked
from hot_anvil.errors import RequestError
from hot_anvil.usecases.entries import find_callable
from hot_anvil.usecases.experiment_checks import Judged, judge_all
from hot_anvil.usecases.kernels import is_kernels
from hot_anvil.usecases.measurement import measure_checked
from hot_anvil.usecases.narrowing import code_of
from hot_anvil.usecases.remarks import ask_build
from hot_anvil.usecases.trial_builds import by_build, main_reasons, only_entry, with_trials
from hot_anvil.usecases.trying import Bases, Candidate, compile_all, texts_of
from hot_anvil.workspace import Workspace, usecase

_BEST = 4  # experiments that are measured a second time, and put together
_SAID = 3  # of the compiler's own words
_ASKED_ABOUT = ("vectorising", "inlining", "loads")
_LEAST, _MOST = 0.05, 2.0  # seconds for a candidate and size


@usecase
def try_experiments(
    workspace: Workspace,
    build: str,
    snippets: Sequence[str] = (),
    entries: Collection[str] = (),
    seconds: float = SECONDS,
    seed: int | None = None,
    call_seconds: float = CALL_SECONDS,
) -> tuple[WhatIf, ...]:
    """Try what may make entries faster under a build; ``seconds`` of measuring for each entry.

    Raises RequestError where no entry is named and there are several.
    """
    base = workspace.build(build)
    compiled = workspace.compile(snippets, [base])
    codes = [workspace.code(built) for built in compiled]  # raises where one is refused
    if entries:
        find_symbols(entries, codes)  # raises where one is nowhere
    asked = [(b, name) for b in compiled for name in _entries(workspace, b, entries)]
    if not asked:
        raise RequestError(
            f"{listed(entries) or base.name}: is no entry here that can be called by itself, so "
            "nothing can be measured. Name an entry of a snippet, and no whole program."
        )
    if not entries and len(asked) > 1:
        raise RequestError(
            "there are several entries: name the one to try things on with --entry. They are: "
            f"{listed(name for _, name in asked)}."
        )
    out = []
    for built, name in asked:
        out.append(Search(workspace, built, name, seconds, seed, call_seconds).run())
        if out[-1].interrupted:
            break
    return tuple(out)


def _entries(workspace: Workspace, built: Built, names: Collection[str]) -> list[str]:
    """Return the entries of one snippet, or those of them that are asked for."""
    if built.snippet.program or is_kernels(built.snippet):
        return []
    known = [signature.name for signature in find_callable(workspace, built.snippet).signatures]
    return [name for name in known if name in names or not names]


class Search:
    """The experiments on one entry, from what is worth trying to what is worth doing."""

    def __init__(
        self,
        workspace: Workspace,
        built: Built,
        entry: str,
        seconds: float,
        seed: int | None,
        call_seconds: float,
    ) -> None:
        self.workspace, self.entry, self.call_seconds = workspace, entry, call_seconds
        self.seconds, self.seed = seconds, seed
        signatures = find_callable(workspace, built.snippet).signatures
        own = next(s for s in signatures if s.name == entry)
        snippet = only_entry(built.snippet, entry)
        texts = texts_of(workspace, built)
        self.bases = Bases(
            workspace, snippet, built._replace(snippet=snippet), texts, own.symbol, (own,)
        )
        self.tried: dict[str, Tried] = {}
        self.compiled: dict[str, Candidate] = {}
        self.notes: list[str] = []
        self.said: tuple[str, ...] = ()
        self.measurements: list[Measured] = []
        self.interrupted = False

    def run(self) -> WhatIf:
        """Do all of it; what was done before an interruption is kept."""
        try:
            self._run()
        except KeyboardInterrupt:
            self.interrupted = True
        return self._answer()

    def _run(self) -> None:
        different = self._different(self._experiments())
        checked, right = self._right(different)
        if self._is_wrong(checked) or not right:
            return
        self._measure(checked, right, self.seconds / 2)
        best = self._best(right)
        if not best:
            return
        more = self._together(best)
        final = [*best, *more]
        if more:
            for_more, right_more = self._right(more)
            final = [*best, *right_more]
            checked = _joined(checked, for_more)
        self._measure(checked, final, self.seconds / 2)

    def _experiments(self) -> list[Experiment]:
        workspace, base = self.workspace, self.bases.built.build
        chain = workspace.toolchain(base)
        family = workspace.family(chain)
        sources = {
            file: Source(file, self.bases.texts[file], language)
            for file in self.bases.snippet.sources
            if file in self.bases.texts and able(language := language_of(file))
        }
        values = values_of(self.bases.snippet)
        reached = workspace.reached(self.bases.built, self.bases.symbol)
        line = next((part.begins[1] for part in reached if part.name == self.bases.symbol), 0)
        subject = Subject(self.entry, sources, family.name, chain.isa, values, line)
        if subject.place is None:
            self.notes.append(
                f"no source holds the definition of {self.entry} as written (a macro or a header "
                "makes it, or the language is not read): only flags were tried"
            )
        else:
            self.said = _said(workspace, self.bases.built, subject)
        others = [
            c.name
            for c in workspace.found.toolchains
            if c.name != chain.name and c.can["run"] and c.target == chain.target
            and not c.machines
            and workspace.family(c).style == family.style
            and set(self.bases.snippet.languages) <= set(c.drivers)
        ]  # fmt: skip
        found = [
            *edits_of(subject),
            *flags_to_try(subject, family, base.flags),
            *levels_to_try(family, base.flags),
            *profile_to_try(family, "branch" in subject.traits or bool(subject.loops)),
            *processors_to_try(subject, family, base.flags),
            *compilers_to_try(others),
        ]
        return list({one.name: one for one in found}.values())

    def _different(self, experiments: Sequence[Experiment]) -> list[Candidate]:
        """Compile experiments; return the first of each that makes other code."""
        seen: dict[str | None, str] = {
            code_of(self.workspace, self.bases.built, self.bases.symbol): ""
        }
        for one in self.tried.values():
            code = self.compiled[one.experiment.name].code
            if code and one.state not in (NO_CHANGE, SAME):
                seen.setdefault(code, one.experiment.name)
        out = []
        compiled = compile_all(self.bases, experiments)
        # Of equal code the one that promises least stands for the others.
        compiled.sort(key=lambda c: (bool(c.experiment.promise), len(c.experiment.parts)))
        for candidate in compiled:
            name = candidate.experiment.name
            self.compiled[name] = candidate
            if candidate.code is None:
                self._note(candidate, Tried(candidate.experiment, "", REFUSED, candidate.why))
            elif candidate.code in seen:
                other = seen[candidate.code]
                state = SAME if other else NO_CHANGE
                self._note(candidate, Tried(candidate.experiment, "", state, same_as=other))
            else:
                seen[candidate.code] = name
                self._note(candidate, Tried(candidate.experiment, "", NOT_TIMED))
                out.append(candidate)
        return out

    def _note(self, candidate: Candidate, tried: Tried) -> None:
        built = candidate.built
        if built is not None and candidate.code is not None:
            reached = self.workspace.reached(built, self.bases.symbol)
            tried = tried._replace(
                build=built.build.name,
                code_bytes=self.workspace.reached_bytes(built, self.bases.symbol),
                instructions=sum(len(part.instructions) for part in reached),
                compile_seconds=built.seconds,
                patch=patch_of(self.bases.texts, candidate.experiment.edits),
                command=self.workspace.command(self.bases.snippet, built.build),
            )
        self.tried[candidate.experiment.name] = tried

    def _right(self, candidates: Sequence[Candidate]) -> tuple[Checked, list[Candidate]]:
        """Check candidates; return those that are right under what they promise."""
        self.workspace.progress("checking experiments", 0, 1)
        checked, judged = judge_all(self.bases, candidates, self.call_seconds)
        out = []
        for candidate in candidates:
            name = candidate.experiment.name
            one = judged[name]
            state = NOT_TIMED if one.verdict.usable else WRONG
            self.tried[name] = self.tried[name]._replace(
                state=state, why=_why(one), broken=one.broken, tested=one.tested, ulp=one.ulp
            )
            if one.verdict.usable:
                out.append(candidate)
        return _with_verdicts(checked, judged, candidates), out

    def _is_wrong(self, checked: Checked) -> bool:
        """Tell whether the build itself is not right: then nothing can be said of the others."""
        name = self.bases.built.build.name
        own = next(v for v in checked.verdicts if v.build == name)
        if own.usable:
            return False
        self.notes.append(
            f"{name} itself is {own.verdict}: {own.why}. Nothing was measured; see check."
        )
        return True

    def _measure(self, checked: Checked, candidates: Sequence[Candidate], seconds: float) -> None:
        """Measure candidates beside the build, all in one contest."""
        base = self.bases.built
        builts = [c.built for c in candidates if c.built]
        names = {base.build.name, *(built.build.name for built in builts)}
        verdicts = tuple(v for v in checked.verdicts if v.build in names)
        points = max(len(sweep_points(self.bases.snippet)), 1)
        each = min(max(seconds / (len(names) * points), _LEAST), _MOST)
        options = Options(each, self.seed, tried=True)
        workspace = with_trials(self.workspace, self.bases.snippet, [base, *builts], base.build)
        measured = measure_checked(workspace, checked._replace(verdicts=verdicts), options)
        self.measurements.append(measured)
        results = by_build(measured)
        for candidate in candidates:
            assert candidate.built
            result = results.get(candidate.built.build.name)
            if result is not None:
                name = candidate.experiment.name
                self.tried[name] = self.tried[name]._replace(state=MEASURED, result=result)

    def holds(self, name: str, seconds: float) -> bool:
        """Measure one experiment once more, by itself in fresh processes; tell whether it gains."""
        checked, right = self._right([self.compiled[name]])
        self._measure(checked, right, seconds)
        return self.tried[name].gain

    def _best(self, candidates: Sequence[Candidate]) -> list[Candidate]:
        """Return the few that may be the fastest."""
        able_to = [
            c
            for c in candidates
            if (result := self.tried[c.experiment.name].result) is not None
            and result.comparison.verdict.word != SLOWER
            and result.comparison.verdict.ratio < 1
        ]
        able_to.sort(key=lambda c: self.tried[c.experiment.name].ratio)
        return able_to[:_BEST]

    def _together(self, best: Sequence[Candidate]) -> list[Candidate]:
        """Compile the best with each other that gains; return those that make new code."""
        gains = [one for one in self.tried.values() if one.gain]
        gains.sort(key=lambda one: one.ratio)
        if len(gains) < 2:
            return []
        found = [one.experiment for one in gains[: _BEST + 2]]
        sets = [[found[0], other] for other in found[1:]]
        sets += [[found[1], other] for other in found[2:4]]
        if len(best) > 2:
            sets.append(found[:3])
        combined = []
        for several in sets:
            try:
                combined.append(together(several))
            except EditError:
                continue
        return self._different(combined)

    def _answer(self) -> WhatIf:
        rows = [self._with_reasons(one) for one in self.tried.values()]
        rows.sort(key=lambda one: (not one.gain, one.ratio))
        base = self.bases.built
        results = [r for m in self.measurements[-1:] if m.overall for r in m.overall.results]
        own = [r for r in results if r.candidate == (self.measurements[-1].baseline)]
        return WhatIf(
            self.bases.snippet.name,
            self.entry,
            base.build.name,
            tuple(rows),
            own[0] if own else None,
            self.workspace.reached_bytes(base, self.bases.symbol),
            base.seconds,
            self.said,
            tuple(self.notes),
            self.interrupted,
        )

    def _with_reasons(self, one: Tried) -> Tried:
        candidate = self.compiled[one.experiment.name]
        if not one.gain or candidate.built is None or self.interrupted:
            return one
        pair = self.bases.built, candidate.built
        return one._replace(reasons=main_reasons(self.workspace, *pair, self.bases.symbol))


def _said(workspace: Workspace, built: Built, subject: Subject) -> tuple[str, ...]:
    """Return what a build's compiler says that it could not do in an entry, and why."""
    first, last = subject.lines
    told: dict[str, None] = {}
    for remark in ask_build(workspace, built).remarks:
        inside = remark.file == subject.source.file and first <= remark.line <= last
        if inside and remark.kind == MISSED and remark.why and remark.about in _ASKED_ABOUT:
            causes = "; ".join(dict.fromkeys(cause.text for cause in remark.why[:2]))
            told[f"line {remark.line}: {remark.text}: {causes}"] = None
    return tuple(told)[:_SAID]


def _why(one: Judged) -> str:
    return "" if one.verdict.usable else f"{one.verdict.verdict}: {one.verdict.why}"


def _with_verdicts(
    checked: Checked, judged: Mapping[str, Judged], candidates: Sequence[Candidate]
) -> Checked:
    """Return the check with the verdicts that candidates have under their promises."""
    now = {c.built.build.name: judged[c.experiment.name].verdict for c in candidates if c.built}
    return checked._replace(verdicts=tuple(now.get(v.build, v) for v in checked.verdicts))


def _joined(one: Checked, more: Checked) -> Checked:
    names = {v.build for v in one.verdicts}
    fresh = tuple(v for v in more.verdicts if v.build not in names)
    return one._replace(verdicts=(*one.verdicts, *fresh))
