"""Where units were compiled."""

from collections.abc import Mapping
from typing import NamedTuple


class Compiled(NamedTuple):
    """Where units were compiled just now."""

    there: int
    here: int
    whys: Mapping[str, int]  # why here after all -> how many units
