"""Remarks of many builds by source line: what each compiler did there, and could not do."""

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.asm.listing import source_text
from hot_anvil.core.code.records import symbols_called
from hot_anvil.core.remarks.records import (
    ABOUT,
    ANALYSIS,
    DONE,
    KINDS,
    MISSED,
    UNASKED,
    Cause,
    Kind,
    Remark,
)


class Span(NamedTuple):
    """Lines of a function in a file."""

    file: str
    first: int
    last: int


class Answered(NamedTuple):
    """What a build's compiler said when it was asked."""

    build: str
    remarks: tuple[Remark, ...]
    totals: Mapping[Kind, int]  # of all that the compiler wrote, repeats counted
    code: str  # SAME: asking changed no code; else the functions whose code is another
    why: str  # why there is nothing, "" where there is


SAME = "same"


class SnippetRemarks(NamedTuple):
    """A snippet's remarks under some builds, with the source and the names people use."""

    snippet: str
    answered: tuple[Answered, ...]
    sources: Mapping[str, Sequence[str]]  # file -> its lines
    titles: Mapping[str, str]  # symbol -> name as the source writes it
    spans: Mapping[str, Span]  # symbol -> lines of its function, where they are known


class Wanted(NamedTuple):
    """Which remarks are asked for; what is empty asks for what matters to most."""

    kinds: tuple[Kind, ...] = ()
    about: tuple[str, ...] = ()
    functions: frozenset[str] = frozenset()  # symbols
    spans: tuple[Span, ...] = ()  # the lines of those functions
    first: int = 0
    last: int = 0  # lines, 0 for all
    everything: bool = False

    def takes(self, remark: Remark) -> bool:
        """Tell whether a remark is one of these."""
        if not self.everything and (remark.depth or not (remark.text or remark.why)):
            return False
        hidden = remark.kind == ANALYSIS or remark.about in UNASKED
        if hidden and not (self.everything or remark.kind in self.kinds):
            return remark.about in self.about and remark.about in UNASKED
        return (
            (not self.kinds or remark.kind in self.kinds)
            and (not self.about or remark.about in self.about)
            and (not self.last or self.first <= remark.line <= self.last)
            and (not self.functions or self._in_functions(remark))
        )

    def _in_functions(self, remark: Remark) -> bool:
        if remark.function:
            return remark.function in self.functions
        return any(s.file == remark.file and s.first <= remark.line <= s.last for s in self.spans)


class Row(NamedTuple):
    """The same said by some builds' compilers of one line."""

    about: str
    kind: Kind
    function: str
    text: str
    why: tuple[Cause, ...]
    times: int
    builds: tuple[str, ...]


class LineRemarks(NamedTuple):
    """A source line with what was said of it; line 0 holds what has no place."""

    file: str
    line: int
    text: str
    rows: tuple[Row, ...]


def by_line(one: SnippetRemarks, wanted: Wanted) -> tuple[tuple[LineRemarks, ...], int]:
    """Return the lines that something was said of, and how many remarks are left out.

    What was said as the cause of something else is not said a second time.
    """
    rows: dict[tuple[str, int], dict[tuple[str, ...], Row]] = {}
    left_out = 0
    for answer in one.answered:
        causes = {(c.file, c.line, c.text) for r in answer.remarks for c in r.why}
        for remark in answer.remarks:
            again = (remark.file, remark.line, remark.text) in causes and not wanted.everything
            if again or not wanted.takes(remark):
                left_out += remark.times
                continue
            key = (remark.about, remark.kind, remark.function, remark.text, str(remark.why))
            own = rows.setdefault((remark.file, remark.line), {})
            made = own.get(key) or Row(*key[:1], remark.kind, *key[2:4], remark.why, 0, ())
            builds = tuple(dict.fromkeys((*made.builds, answer.build)))
            own[key] = made._replace(times=max(made.times, remark.times), builds=builds)
    order = {file: k for k, file in enumerate(one.sources)}
    places = sorted(rows, key=lambda at: (at[1] == 0, order.get(at[0], len(order)), at))
    return (
        tuple(
            LineRemarks(file, line, _text(one, file, line), _ordered(rows[file, line]))
            for file, line in places
        ),
        left_out,
    )


def narrowed(one: SnippetRemarks, wanted: Wanted) -> SnippetRemarks:
    """Return a snippet's remarks with those that are asked for only."""
    answered = (
        answer._replace(remarks=tuple(filter(wanted.takes, answer.remarks)))
        for answer in one.answered
    )
    return one._replace(answered=tuple(answered))


def _ordered(rows: Mapping[tuple[str, ...], Row]) -> tuple[Row, ...]:
    topics, kinds = list(ABOUT), list(KINDS)
    return tuple(sorted(rows.values(), key=lambda r: (topics.index(r.about), kinds.index(r.kind))))


def _text(one: SnippetRemarks, file: str, line: int) -> str:
    return source_text(one.sources, file, line).strip() if line else ""


def symbols_named(found: Sequence[SnippetRemarks], names: Iterable[str]) -> frozenset[str]:
    """Return the symbols of functions; raises RequestError for a name that is none of them."""
    titles = {symbol: title for one in found for symbol, title in one.titles.items()}
    symbols = dict.fromkeys(s for one in found for s in (*one.spans, *_spoken_of(one)))
    return frozenset(symbols_called(names, {s: titles.get(s, s) for s in symbols}))


def _spoken_of(one: SnippetRemarks) -> Iterable[str]:
    return (r.function for answer in one.answered for r in answer.remarks if r.function)


def not_vectorised(remarks: Iterable[Remark], lines: Collection[int], file: str) -> str:
    """Return why a loop on these lines was not vectorised, as its compiler says; "" if it does not.

    The remark must lie on one of the loop's own lines, and none may say that it was.
    """
    own = [
        r for r in remarks
        if r.about == "vectorising" and r.file == file and r.line in lines and not r.depth
    ]  # fmt: skip
    missed = [r for r in own if r.kind == MISSED and r.why]
    if any(r.kind == DONE for r in own) or not missed:
        return ""
    return "; ".join(dict.fromkeys(told(c) for r in missed for c in r.why))


def told(cause: Cause) -> str:
    """Return a cause in the compiler's words, with its line."""
    return f"{cause.text} (line {cause.line})" if cause.line else cause.text
