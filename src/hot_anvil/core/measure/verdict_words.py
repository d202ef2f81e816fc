"""What a ratio is called."""

from typing import Literal

Word = Literal["faster", "slower", "tied", "not enough data", "baseline", "best"]
FASTER: Word = "faster"
SLOWER: Word = "slower"
TIED: Word = "tied"
NOT_ENOUGH: Word = "not enough data"
BASELINE: Word = "baseline"
BEST: Word = "best"
