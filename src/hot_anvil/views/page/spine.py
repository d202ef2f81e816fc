"""The source lines of a snippet as the template wants them: each with all that opens under it."""

import re
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from markupsafe import Markup

from hot_anvil.core.diff.ledger import Cell
from hot_anvil.core.names import visible
from hot_anvil.core.results.pages import PageLine, PageSnippet
from hot_anvil.views.page.colours import coloured
from hot_anvil.views.text.words import percent, plural

SIGNS = {"same": "=", "renamed": "~", "reordered": "o", "changed": "*", "moved": "m",
         "gone": "<", "new": ">", "base": ""}  # fmt: skip
_AROUND = 3  # lines without code that are shown around those with it
_HOT = 0.005  # share below which a line takes next to nothing


class Figure(NamedTuple):
    """One build's cell in a line's row."""

    text: str  # count, sign of its state, marks
    other: bool  # another count or other marks than the base


def file_rows(snippet: PageSnippet) -> Iterator[dict[str, Any]]:
    """Give each file of a snippet with its rows: lines that open, and plain ones between them."""
    by_file: dict[str, list[PageLine]] = {}
    for line in snippet.lines:
        by_file.setdefault(line.file, []).append(line)
    shown = [k for k, column in enumerate(snippet.columns) if column.shown]
    for file, lines in by_file.items():
        source = snippet.sources.get(file, ())
        texts = coloured(file, source) if source else []
        rows: list[dict[str, Any]] = []
        before = 0
        for line in lines:
            rows += _between(before, line.line, texts)
            before = max(line.line, before)
            rows.append(_opened(snippet, line, texts, shown))
        yield {"name": file or "(no source file)", "rows": rows}


def _between(before: int, line: int, texts: Sequence[Markup]) -> list[dict[str, Any]]:
    """Return the lines without code between two with it; of many only those near them."""
    numbers = [n for n in range(before + 1, line) if n <= len(texts)]
    if len(numbers) > 2 * _AROUND:
        numbers = [*(numbers[:_AROUND] if before else []), 0, *numbers[-_AROUND:]]
    return [{"plain": True, "line": n, "text": texts[n - 1] if n else ""} for n in numbers]


def _opened(
    snippet: PageSnippet, line: PageLine, texts: Sequence[Markup], shown: Sequence[int]
) -> dict[str, Any]:
    text: Any = texts[line.line - 1] if 0 < line.line <= len(texts) else visible(line.text)
    base = line.cells[snippet.base] if snippet.base >= 0 else None
    names = [column.build for column in snippet.columns]
    hot = [heat for heat in line.heat if heat.share >= _HOT]
    counts = [cell.instructions for cell in line.cells if cell]
    return {
        "plain": False,
        "id": anchor(snippet.name, line.file, line.line),
        "line": line.line,
        "text": text,
        "words": visible(line.text).lower(),
        "differs": line.differs,
        "figures": [_figure(line, k, base) for k in shown],
        "least": min(counts, default=0),
        "most": max(counts, default=0),
        "every": _by_count(line, names) if len(shown) < len(names) else "",
        "whys": [
            {"builds": _names(why.columns, names), "kind": why.kind, "text": why.text,
             "sure": why.confidence}
            for why in line.whys
        ],
        "pieces": [
            {"builds": _names(piece.columns, names), "many": plural(piece.instructions,
             "instruction"), "states": _states(line, piece.columns), "code": "\n".join(piece.code)}
            for piece in line.pieces
        ],
        "heat": [
            {"candidate": heat.candidate, "share": percent(heat.share),
             "error": f"{100 * heat.error:.1f}", "wide": round(100 * heat.share, 1),
             "rows": [(percent(share), text) for share, text in heat.instructions
                      if share >= _HOT]}
            for heat in hot
        ],
        "hottest": max((heat.share for heat in hot), default=0.0),
    }  # fmt: skip


def anchor(snippet: str, file: str, line: int) -> str:
    """Return the fragment that a link to a line has."""
    return re.sub(r"[^\w.-]", "_", f"{snippet}-{file}-{line}")


def _figure(line: PageLine, k: int, base: Cell | None) -> Figure:
    cell = line.cells[k]
    state = line.states[k]
    if cell is None:
        return Figure("?", False)
    words = (str(cell.instructions or "-"), SIGNS.get(state, ""), *cell.marks)
    return Figure(" ".join(filter(None, words)), cell != base)


def _states(line: PageLine, columns: Sequence[int]) -> str:
    known = dict.fromkeys(line.states[k] for k in columns if line.states[k])
    return ", ".join(known)


def _names(columns: Sequence[int], names: Sequence[str]) -> str:
    return ", ".join(names[k] for k in columns)


def _by_count(line: PageLine, names: Sequence[str]) -> str:
    """Return what each count is of, where not every build has its code on the page."""
    groups: dict[str, list[str]] = {}
    for name, cell in zip(names, line.cells, strict=True):
        if cell is not None:
            text = " ".join([str(cell.instructions), *cell.marks])
            groups.setdefault(text, []).append(name)
    order = sorted(groups.items(), key=lambda group: int(group[0].split()[0]))
    return "; ".join(f"{text}: {', '.join(own)}" for text, own in order)
