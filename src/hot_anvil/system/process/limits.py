"""Limits of each compiler run; set once, from the command line or the bench."""


class Limits:
    """How long a compiler may run, and how much memory it may take."""

    seconds = 300.0
    memory = 0  # bytes of address space, 0 for none


limits = Limits()
