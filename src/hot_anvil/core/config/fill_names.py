"""The fills that a bench may name, and how many values each takes."""

import re

FILLS = {
    "zeros": (0, 0),
    "ramp": (0, 2),
    "uniform": (2, 2),
    "normal": (2, 2),
    "choice": (1, 1000),
    "text": (1, 1),
    "file": (1, 1),
}  # name -> fewest and most values


def is_fill(text: str) -> bool:
    """Tell whether a text is meant as a fill, not as an expression."""
    found = re.match(r"\s*(\w+)\s*(\(|$)", text)
    return found is not None and (found[2] == "(" or found[1] in FILLS)
