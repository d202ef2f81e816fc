"""Source lines with their words told apart: keywords, comments, literals."""

from collections.abc import Sequence
from typing import Any

from markupsafe import Markup, escape

from hot_anvil.core.names import visible


def coloured(file: str, lines: Sequence[str]) -> list[Markup]:
    """Return a file's lines as HTML with classes for kinds of words; plain in an unknown language.

    What acts upon a reader unseen, such as overrides of the writing direction, is written out.
    """
    shown = [visible(line) for line in lines]
    lexer = _lexer(file)
    if lexer is None:
        return [escape(line) for line in shown]
    from pygments import highlight
    from pygments.formatters import HtmlFormatter

    text = highlight("\n".join(shown), lexer, HtmlFormatter(nowrap=True))
    out = [Markup(line) for line in text.split("\n")]
    if len(out) < len(shown):
        return [escape(line) for line in shown]
    return out[: len(shown)]


def _lexer(file: str) -> Any:
    from pygments.lexers import get_lexer_for_filename
    from pygments.util import ClassNotFound

    try:
        return get_lexer_for_filename(file, stripnl=False, ensurenl=False)
    except ClassNotFound:
        return None
