"""A page about a bench: what was found out so far, by snippet, with its source lines as the spine.

Records and their making only; gathering is a use case's, drawing a view's.
"""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.asm.listing import ListedFunction, Placed
from hot_anvil.core.binary.frame_layout import BuildFrame
from hot_anvil.core.build.records import Built
from hot_anvil.core.diff.leading import leading
from hot_anvil.core.diff.ledger import Cell, Ledger
from hot_anvil.core.diff.records import Diff, lines_text
from hot_anvil.core.facts.table import SnippetFacts
from hot_anvil.core.measure.hotspots import Hot
from hot_anvil.core.names import listed
from hot_anvil.core.results.answers import KeptAnswer
from hot_anvil.core.results.code import Listing, SnippetDiff
from hot_anvil.errors import RequestError

MOST_SHOWN = 8  # builds whose instructions a page shows where nobody names them
_LEADING = 5  # reasons told for each build
Place = tuple[str, int]  # file and line


class Column(NamedTuple):
    """One build of a page."""

    build: str
    flags: str
    command: str  # what a person types for it
    refused: str  # why, "" for a compiled one
    total: int | None  # instructions
    code_bytes: int | None
    shown: bool  # its instructions are on the page


class Piece(NamedTuple):
    """Instructions of a line that are the same text under some builds."""

    columns: tuple[int, ...]
    instructions: int
    code: tuple[str, ...]  # lines: instructions, labels before them, ".." where others come between


class Why(NamedTuple):
    """A reason for a line's difference, with the builds that it holds for."""

    columns: tuple[int, ...]
    kind: str
    text: str
    confidence: str


class Heat(NamedTuple):
    """What a line takes of one candidate's time."""

    candidate: str
    share: float
    error: float  # half width of its interval, as a share
    instructions: tuple[tuple[float, str], ...]  # share and text, in the order of the code


class PageLine(NamedTuple):
    """One source line, opened."""

    file: str
    line: int  # 0 for code without one
    text: str
    cells: tuple[Cell | None, ...]  # by column, None where the build is refused
    states: tuple[str, ...]  # by column, against the base; "" where that was not computed
    pieces: tuple[Piece, ...]
    whys: tuple[Why, ...]
    heat: tuple[Heat, ...]

    @property
    def differs(self) -> bool:
        """Whether builds disagree on the count or the marks."""
        return len({cell for cell in self.cells if cell}) > 1


class Lead(NamedTuple):
    """The reasons that tell most of what a build changes against the base."""

    build: str
    left: int  # instructions of the base
    right: int
    rows: tuple[tuple[str, str, str, str, str], ...]  # function, lines, kind, text, confidence
    wanting: int  # lines that differ and want a reason
    unexplained: int


class PageSnippet(NamedTuple):
    """All that a page tells of one snippet."""

    name: str
    columns: tuple[Column, ...]
    base: int  # column that the others are compared with, -1 where nothing compiled
    lines: tuple[PageLine, ...]
    sources: Mapping[str, Sequence[str]]  # the files of the lines, whole
    leads: tuple[Lead, ...]
    answers: tuple[KeptAnswer, ...]  # the last of each command, about this snippet only
    changed: tuple[str, ...]  # builds that were compiled anew, to other artefacts, since
    builts: tuple[Built, ...]
    facts: tuple[SnippetFacts, ...]
    frames: tuple[BuildFrame, ...]
    lacking: tuple[str, ...]  # what is not there, and what would bring it


class Page(NamedTuple):
    """A page about a bench."""

    title: str
    at: float  # seconds since 1970
    version: str  # of Hot Anvil
    machine_text: str
    toolchains: tuple[tuple[str, str, str], ...]  # name, version, target
    notes: tuple[str, ...]
    snippets: tuple[PageSnippet, ...]
    origin: str = ""  # the file it was imported from


def page_lines(
    ledger: Ledger,
    base: int,
    listings: Mapping[int, Listing],
    diffs: Mapping[int, SnippetDiff],
    hot: Hot | None,
) -> tuple[PageLine, ...]:
    """Return a ledger's rows opened; listings, and diffs with the base, are by column."""
    code = {k: _code_by_line(listing.functions) for k, listing in listings.items()}
    states, whys = _states(diffs, base, len(ledger.columns)), _whys(diffs)
    heat = _heat(hot) if hot else {}
    out = []
    for row in ledger.rows:
        place = row.file, row.line
        known = states.get(place)
        out.append(
            PageLine(
                *place,
                row.text,
                row.cells,
                known or ("",) * len(ledger.columns),
                _pieces({k: lines.get(place, ((), 0)) for k, lines in code.items()}),
                whys.get(place, ()),
                heat.get(place, ()),
            )
        )
    return tuple(out)


def narrowed(page: Page, builds: Sequence[str], snippets: Sequence[str]) -> Page:
    """Return a page that is made with fewer snippets, and fewer builds whose code is shown.

    Raises RequestError for a name that it does not have.
    """
    known = [one.name for one in page.snippets]
    for name in snippets:
        if name not in known:
            raise RequestError(f"{name}: the page has no such snippet. It has: {listed(known)}.")
    visible = dict.fromkeys(c.build for one in page.snippets for c in one.columns if c.shown)
    for name in builds:
        if name not in visible:
            raise RequestError(
                f"{name}: the page does not hold its code. It holds that of: {listed(visible)}."
            )
    made = []
    for one in page.snippets:
        if not snippets or one.name in snippets:
            columns = (c._replace(shown=c.shown and c.build in builds) for c in one.columns)
            made.append(one._replace(columns=tuple(columns)) if builds else one)
    return page._replace(snippets=tuple(made))


def lead_of(item: SnippetDiff) -> Lead:
    """Return what tells most of a comparison with the base."""
    titles = {total.name: total.title for total in item.diff.functions}
    rows = tuple(
        (titles.get(r.function, r.function), lines_text(r.places), r.kind, r.text, r.confidence)
        for r in leading(item.explained.reasons, _LEADING)
    )
    told = item.explained
    counts = item.diff.left_count, item.diff.right_count
    return Lead(item.names[1], *counts, rows, told.wanting, told.unexplained)


def chosen_columns(builds: Sequence[str], first: Sequence[str]) -> tuple[int, ...]:
    """Return the columns to show the code of: all of a few, else the first ones named."""
    if len(builds) <= MOST_SHOWN:
        return tuple(range(len(builds)))
    wanted = [name for name in dict.fromkeys(first) if name in builds][:MOST_SHOWN]
    return tuple(sorted(builds.index(name) for name in wanted))


def _code_by_line(
    functions: Sequence[ListedFunction],
) -> dict[Place, tuple[tuple[str, ...], int]]:
    out: dict[Place, tuple[tuple[str, ...], int]] = {}
    owners: dict[Place, set[str]] = {}
    for function in functions:
        for line in function.lines:
            if line.instructions:
                owners.setdefault((line.file, line.line), set()).add(function.name)
    for function in functions:
        for line in function.lines:
            place = line.file, line.line
            if not line.instructions:
                continue
            texts, count = out.get(place, ((), 0))
            head = (f"in {function.title}:",) if len(owners[place]) > 1 else ()
            texts += (*head, *_texts(line.instructions, function.labels))
            out[place] = texts, count + len(line.instructions)
    return out


def _texts(placed: Sequence[Placed], labels: Mapping[int, tuple[str, ...]]) -> list[str]:
    out: list[str] = []
    before = None
    for one in placed:
        if before is not None and one.place != before + 1:
            out.append("  ..")
        before = one.place
        out += [f"{label}:" for label in labels.get(one.place, ())]
        item = one.instruction
        called = f"   -> {one.called}" if one.called else ""
        value = f"   = {one.value}" if one.value else ""
        text = f"  {item.mnemonic:<8} {', '.join(item.operands)}".rstrip()
        out.append(f"{text}{called}{value}")
    return out


def _pieces(code: Mapping[int, tuple[tuple[str, ...], int]]) -> tuple[Piece, ...]:
    same: dict[tuple[str, ...], list[int]] = {}
    for column, (texts, _) in code.items():
        same.setdefault(texts, []).append(column)
    return tuple(Piece(tuple(own), code[own[0]][1], texts) for texts, own in same.items())


def _states(
    diffs: Mapping[int, SnippetDiff], base: int, columns: int
) -> dict[Place, tuple[str, ...]]:
    out: dict[Place, list[str]] = {}
    for column, item in diffs.items():
        for row in item.diff.rows:
            known = out.setdefault((row.file, row.line), [""] * columns)
            known[column] = row.state
    for known in out.values():
        known[base] = "base"
    return {place: tuple(known) for place, known in out.items()}


def _whys(diffs: Mapping[int, SnippetDiff]) -> dict[Place, tuple[Why, ...]]:
    found: dict[Place, dict[tuple[str, str, str], list[int]]] = {}
    for column, item in diffs.items():
        diff: Diff = item.diff
        for row in diff.rows:
            for number in row.reasons:
                reason = item.explained.reasons[number]
                key = reason.kind, reason.text, reason.confidence
                own = found.setdefault((row.file, row.line), {}).setdefault(key, [])
                if column not in own:
                    own.append(column)
    return {
        place: tuple(Why(tuple(own), *key) for key, own in reasons.items())
        for place, reasons in found.items()
    }


def _heat(hot: Hot) -> dict[Place, tuple[Heat, ...]]:
    out: dict[Place, tuple[Heat, ...]] = {}
    for one in hot.candidates:
        for line in one.lines:
            place = line.file, line.line
            seen = tuple((i.share.share, i.instruction.text) for i in line.instructions)
            own = Heat(one.candidate, line.share.share, line.share.error, seen)
            out[place] = (*out.get(place, ()), own)
    return out
