"""A call stepped through, as text: what it did in all, then step by step under source lines."""

from collections.abc import Callable, Mapping, Sequence

from hot_anvil.core.code.records import Instruction
from hot_anvil.core.trace.moments import MEMORY, Moment, Setting
from hot_anvil.core.trace.records import ShownCall, Stepped
from hot_anvil.core.trace.selection import Choice
from hot_anvil.core.trace.summary import Summary
from hot_anvil.core.trace.walk import Walk
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, TROUBLE, Cell, Report, Span, cut
from hot_anvil.views.text.words import plural

Spell = Callable[[Instruction], Instruction]
Sources = Mapping[str, Sequence[str]]
_BODY = 32  # columns of an instruction beside what it changes
_NUMBER = 8  # of a step's number
_MOST_SETTINGS = 8  # told of one step
_MOST_REGISTERS = 6
_BRANCHES = 12  # told of a call


def step_report(
    told: ShownCall, choice: Choice, sources: Sources, spell: Spell, width: int, by_line: bool
) -> Report:
    """Return one call of one candidate."""
    report = Report(width)
    heading(report, told.stepped)
    summary_part(report, told, sources)
    report.blank()
    if not told.shown.moments:
        report.add("  ", Span("no step is as asked for", TROUBLE))
        return report
    Steps(report, told.stepped, told.walk, sources, spell, by_line).add(told.shown.moments)
    _rest(report, told, choice)
    return report


def heading(report: Report, stepped: Stepped) -> None:
    """Add which call it is and what came of it."""
    report.add(Span(stepped.snippet, STRONG), f"  {stepped.candidate}  ", Span(stepped.label, DIM))
    values = "; ".join(f"{name} = {value}" for name, value in stepped.inputs)
    report.paragraph(f"given: {values}" if values else "it takes nothing", DIM, 2)
    if stepped.ending == "returned":
        report.paragraph(f"came back: {stepped.output}", indent=2)
    else:
        at = f", at {stepped.place.text}" if stepped.place.text else ""
        report.add("  ", Span(f"{stepped.ending}: {stepped.why}{at}", TROUBLE))
    report.paragraph(f"stepped through by {stepped.by}", DIM, 2)
    for text in stepped.nameless:
        report.paragraph(f"no names for variables: {text}", TROUBLE, 2)


def summary_part(report: Report, told: ShownCall, sources: Sources) -> None:
    """Add what the call did in all."""
    summary = told.summary
    report.blank()
    executed = _many(summary.executed, "instruction")
    memory = f"{_many(summary.loads, 'load')}, {_many(summary.stores, 'store')}"
    report.say("  ", Span(f"executed {executed}", STRONG),
               f": {memory}, deepest stack {summary.stack} B")  # fmt: skip
    if told.stepped.tape.full:
        report.paragraph(
            f"caution: it goes on; recording ended after {_many(summary.executed, 'step')}.",
            TROUBLE, 2,
        )  # fmt: skip
    _lines(report, summary, sources)
    loops: list[list[Cell]] = [
        [_at(one.file, one.line), f"{one.passes:,}", f"{one.entered:,}", one.function]
        for one in summary.loops
    ]
    if loops:
        report.table(("loop at", "passes", "entered", ""), loops, "lrrl", indent=4)
    _branches(report, summary)
    calls: list[list[Cell]] = [
        [one.function, f"{one.times:,}", "" if one.stepped else "not stepped through"]
        for one in summary.calls
    ]
    if calls:
        report.table(("calls", "times", ""), calls, "lrl", indent=4)


def _many(count: int, noun: str) -> str:
    return plural(count, noun).replace(str(count), f"{count:,}", 1)


def _lines(report: Report, summary: Summary, sources: Sources) -> None:
    rows: list[list[Cell]] = []
    for one in summary.lines:
        text = source_line(sources, one.file, one.line)
        place = _at(one.file, one.line) if one.line else "no line"
        rows.append([Span(place, DIM), f"{one.executed:,}", text.strip()])
    room = report.width - 4 - max(len(row[0].text) for row in rows if isinstance(row[0], Span)) - 14
    rows = [[*row[:2], cut(str(row[2]), max(room, 16))] for row in rows]
    report.table(("line", "executed", ""), rows, "lrl", indent=4)


def _branches(report: Report, summary: Summary) -> None:
    rows: list[list[Cell]] = [
        [_at(one.file, one.line), one.text, f"{one.taken:,}", f"{one.not_taken:,}"]
        for one in summary.branches[:_BRANCHES]
    ]
    if rows:
        report.table(("branch at", "", "taken", "not"), rows, "llrr", indent=4)
    more = len(summary.branches) - len(rows)
    if more > 0:
        report.add("    ", Span(f"and {plural(more, 'more branch').replace('branchs', 'branches')}",
                                DIM))  # fmt: skip


def _at(file: str, line: int) -> str:
    return f"{file}:{line}" if file else "no line"


def source_line(sources: Sources, file: str, line: int) -> str:
    """Return the text of a source line, "" where it is not known."""
    lines = sources.get(file, ())
    return lines[line - 1].replace("\t", "    ") if 0 < line <= len(lines) else ""


def _rest(report: Report, told: ShownCall, choice: Choice) -> None:
    """Say how much is not shown."""
    left = told.shown.chosen - len(told.shown.moments)
    if left > 0:
        report.paragraph(
            f"{_many(left, 'more step')} not shown: --limit shows more of them; --lines, "
            "--passes first,last, --at and --watch show fewer.", DIM, 2,
        )  # fmt: skip


class Steps:
    """Adds steps to a report, under their source lines."""

    def __init__(
        self,
        report: Report,
        stepped: Stepped,
        walk: Walk,
        sources: Sources,
        spell: Spell,
        by_line: bool = False,
    ) -> None:
        """Prepare; ``by_line`` leaves the instructions out."""
        self.report, self.stepped, self.walk = report, stepped, walk
        self.sources, self.spell, self.by_line = sources, spell, by_line
        self._last: Moment | None = None
        self._begins = 1  # the step that nothing is missing before
        self._count = 0
        self._held: list[Setting] = []

    def add(self, moments: Sequence[Moment]) -> None:
        """Add steps in their order."""
        for moment in moments:
            self._gap(moment)
            if self._begins_line(moment):
                self._line(moment)
            self.one(moment)
            self._last = moment
        self._close_line()

    def go_on_from(self, moment: Moment, known: bool) -> None:
        """Go on behind a step that was shown; not ``known``: begin there, with nothing between."""
        if known:
            self._last = moment
        else:
            self._begins = moment.step.number

    def one(self, moment: Moment) -> None:
        """Add one step, or hold it where only lines are shown."""
        if self.by_line:
            self._count += 1
            self._held += moment.settings
        else:
            self._instruction(moment)

    def _gap(self, moment: Moment) -> None:
        last = self._last
        missing = moment.step.number - (last.step.number if last else self._begins - 1) - 1
        if missing > 0:
            self._close_line()
            where = "between" if last else "before"
            self.report.add(" " * _NUMBER, Span(f".. {_many(missing, 'step')} {where}", DIM))

    def _begins_line(self, moment: Moment) -> bool:
        last = self._last
        if last is None or moment.step.number != last.step.number + 1:
            return True
        here, there = moment.place, last.place
        return (
            (here.file, here.line, moment.frame) != (there.file, there.line, last.frame)
            or (here.begins >= 0 and moment.passes != last.passes)
        )  # fmt: skip

    def _line(self, moment: Moment) -> None:
        self._close_line()
        place = moment.place
        indent = "  " * moment.depth
        where = f"{indent}{_at(place.file, place.line)}"
        passes = ", ".join(map(str, moment.passes))
        note = f"  pass {passes}" if passes else ""
        text = source_line(self.sources, place.file, place.line).strip()
        room = self.report.width - len(where) - len(note) - 4
        text = cut(text, max(room, 8))
        gap = " " * max(room - len(text), 0)
        self.report.add("  ", Span(where, DIM), "  ", Span(text, STRONG), gap, Span(note, DIM))

    def _close_line(self) -> None:
        if not self.by_line or not self._count:
            return
        net: dict[tuple[int, str], Setting] = {}
        for setting in self._held:
            key = setting.frame, setting.name
            if setting.whose != MEMORY:
                net[key] = setting._replace(
                    before=net[key].before if key in net else setting.before
                )
        told = settings_text([s for s in net.values() if s.before != s.after])
        count = plural(self._count, "instruction")
        pieces = [Span(told, CHANGE), Span("  ")] if told else []
        if len(told) + len(count) + _NUMBER + 4 > self.report.width:
            self.report.paragraph(told, CHANGE, _NUMBER)
            pieces = []
        self.report.add(" " * _NUMBER, *pieces, Span(count, DIM))
        self._count, self._held = 0, []

    def _instruction(self, moment: Moment) -> None:
        item = self.spell(moment.place.instruction)
        body = f"{item.mnemonic:<7} {', '.join(item.operands)}".rstrip()
        number = f"{moment.step.number:>{_NUMBER}}  "
        depth = "  " * moment.depth
        lead = f"{number}{depth}"
        told = settings_text(moment.settings)
        rest = "  ".join(filter(None, (self._registers(moment), _goes(moment), item.words)))
        room = self.report.width - len(number) - len(depth) - _BODY - 2
        if len(body) > _BODY or room < 24:
            self.report.add(Span(lead, DIM), cut(body, self.report.width - len(lead)))
            if not told and not rest:
                return
            lead, body = " " * len(lead), ""
        self._told(lead, body, told, rest, room)

    def _told(self, lead: str, body: str, told: str, rest: str, room: int) -> None:
        pieces = [Span(told, CHANGE)] if told else []
        pieces += [Span(rest, DIM)] if rest else []
        indent = len(lead) + _BODY + 2
        if sum(len(p.text) + 2 for p in pieces) - 2 <= room:
            joined = [cell for piece in pieces for cell in (piece, Span("  "))][:-1]
            self.report.add(Span(lead, DIM), f"{body:<{_BODY}}  ", *joined)
            return
        from textwrap import wrap

        first = True
        for piece in pieces:
            for line in wrap(piece.text, max(room, 12), break_on_hyphens=False):
                if first:
                    self.report.add(Span(lead, DIM), f"{body:<{_BODY}}  ", Span(line, piece.style))
                else:
                    self.report.add(" " * indent, Span(line, piece.style))
                first = False

    def _registers(self, moment: Moment) -> str:
        changes = moment.step.changes
        told = [
            "{} {} -> {}".format(*self.walk.register_text(change))
            for change in changes[:_MOST_REGISTERS]
        ]
        if len(changes) > _MOST_REGISTERS:
            told.append(f"and {plural(len(changes) - _MOST_REGISTERS, 'more register')}")
        return "  ".join(told)


def settings_text(settings: Sequence[Setting]) -> str:
    """Return what was set, in words."""
    told = [_setting(one) for one in settings[:_MOST_SETTINGS]]
    if len(settings) > _MOST_SETTINGS:
        told.append(f"and {len(settings) - _MOST_SETTINGS} more")
    return "  ".join(told)


def _setting(one: Setting) -> str:
    if one.before == one.after:
        return f"{one.name} stays {one.after}"
    return f"{one.name} {one.before} -> {one.after}" if one.before else f"{one.name} = {one.after}"


def _goes(moment: Moment) -> str:
    """Return where an instruction goes, "" for the next."""
    if moment.taken is not None:
        return "taken" if moment.taken else "not taken"
    going = moment.going
    if going.calls:
        also = f", which calls {going.enters}" if going.enters not in ("", going.calls) else ""
        return f"calls {going.calls}" + (", which comes back" if going.comes_back else also)
    if going.returns:
        return f"returns, and {going.enters} is called again" if going.enters else "returns"
    return "other code runs before the next step" if moment.step.beyond else ""
