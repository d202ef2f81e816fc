"""What went otherwise than asked for, and is said once at the end of a command."""

_told: dict[str, None] = {}


def notice(text: str) -> None:
    """Have one sentence said at the end, once however often it comes."""
    _told[text] = None


def take_notices() -> list[str]:
    """Return what is to be said, and forget it."""
    texts = list(_told)
    _told.clear()
    return texts
