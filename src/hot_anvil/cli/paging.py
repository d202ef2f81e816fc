"""Long answers on a terminal: through the pager that a person has chosen."""

import os
import shlex
import shutil
import sys
from collections.abc import Iterable
from contextlib import suppress

_QUIT_IF_SHORT = "FRX"  # less: leave where it fits, keep colours, leave the text on the screen


def is_long(lines: int) -> bool:
    """Tell whether so many lines are more than the terminal shows at once."""
    try:
        return lines > os.get_terminal_size(sys.stdout.fileno()).lines - 1
    except (OSError, ValueError):
        return False


def pager() -> list[str] | None:
    """Return the pager's command: HOT_ANVIL_PAGER, else PAGER, else less; None for none.

    An empty one, or "cat", is none.
    """
    chosen = os.environ.get("HOT_ANVIL_PAGER", os.environ.get("PAGER"))
    if chosen is None:
        chosen = "less" if shutil.which("less") else ""
    try:
        words = shlex.split(chosen)
    except ValueError:
        return None
    return words if words and words != ["cat"] and shutil.which(words[0]) else None


def show(text: str, words: list[str]) -> None:
    """Show a text by the pager ``words``, which may be left before the end of it."""
    import subprocess

    environment = {"LESS": _QUIT_IF_SHORT, **os.environ}
    shown = subprocess.Popen(words, stdin=subprocess.PIPE, env=environment)
    data: bytes | None = text.encode(errors="surrogateescape")
    while True:
        try:
            shown.communicate(data)
            return
        except KeyboardInterrupt:
            data = None  # it is the pager's to act upon, which goes on with what it has


def show_stream(texts: Iterable[str], words: list[str]) -> None:
    """Show texts by the pager ``words`` as they are made, as long as it takes them."""
    import subprocess

    environment = {"LESS": _QUIT_IF_SHORT, **os.environ}
    shown = subprocess.Popen(words, stdin=subprocess.PIPE, env=environment)
    assert shown.stdin is not None
    with suppress(BrokenPipeError, KeyboardInterrupt):
        for text in texts:
            shown.stdin.write(text.encode(errors="surrogateescape"))
    with suppress(BrokenPipeError):
        shown.stdin.close()
    while True:
        try:
            shown.wait()
            return
        except KeyboardInterrupt:
            continue  # it is the pager's to act upon, which goes on with what it has
