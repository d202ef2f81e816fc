"""A report as Markdown, for a comment in a review: tables as tables, code as code."""

import re
from collections.abc import Sequence

from hot_anvil.views.text.report import INSIDE, Line, Paragraph, Report, Span, Table

# What Markdown, or HTML inside it, may act upon inside a line.
_LIVELY = re.compile(r"[\\`*\[\]<>|~&$]|(?<![^\W_])_|_(?![^\W_])|:(?=//)|(?<=www)\.")


def as_markdown(report: Report) -> str:
    """Return a report as Markdown: headings, paragraphs, tables, and the rest as blocks of code.

    Texts from sources and compilers stay texts: nothing in them makes a link, a tag or a table.
    """
    out: list[str] = []
    code: list[str] = []
    for block in report.blocks:
        if isinstance(block, Line) and not block.is_title:
            code.append(_plain(block.pieces))
            continue
        if isinstance(block, Paragraph) and code and block.indent >= INSIDE:
            code.append(" " * block.indent + block.text)
            continue
        _close(out, code)
        if isinstance(block, Line):
            out.append(_heading(block))
        elif isinstance(block, Paragraph):
            out.append(_text(block.text))
        else:
            out.append(_table(block))
    _close(out, code)
    return "\n\n".join(out) + "\n" if out else ""


def _heading(line: Line) -> str:
    first, *others = line.pieces
    rest = "".join(piece.text for piece in others).strip()
    return f"### {_text(first.text)}" + (f"\n\n{_text(rest)}" if rest else "")


def _close(out: list[str], code: list[str]) -> None:
    """Move lines gathered so far into a block of code that none of them can end."""
    while code and not code[0].strip():
        code.pop(0)
    while code and not code[-1].strip():
        code.pop()
    if code:
        fence = "`" * max(3, *(len(run) + 1 for run in re.findall("`+", "\n".join(code))), 3)
        out.append("\n".join((f"{fence}text", *code, fence)))
    code.clear()


def _plain(pieces: Sequence[Span]) -> str:
    return "".join(piece.text for piece in pieces).rstrip()


def _text(text: str) -> str:
    """Return a text in which no sign means anything, in a line or at its start."""
    shown = _cell(text)
    return f"\\{shown}" if shown.startswith(tuple("#+-!@(")) else shown


def _table(table: Table) -> str:
    rows = [[_cell(cell.text) for cell in row] for row in table.rows]
    signs = ["---:" if sign == "r" else ":---" for sign in table.align]
    body = [[_cell(head) for head in table.heads], signs, *rows]
    return "\n".join(f"| {' | '.join(row)} |" for row in body)


def _cell(text: str) -> str:
    return _LIVELY.sub(r"\\\g<0>", " ".join(text.split())) or " "
