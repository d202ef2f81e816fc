"""How long work tells that it goes on."""

from collections.abc import Callable

Progress = Callable[[str, int, int], None]  # what is being done, done so far, of how many


def no_progress(_what: str, _done: int, _total: int) -> None:
    """Show no progress."""
