"""Cycles of AVR instructions: the instruction set manual's, for ATmega and ATtiny (AVRe, AVRe+).

Other cores differ: XMEGA's, the smallest ATtiny's, and chips with more than 128 KiB of code, whose
calls and returns take one more.
"""

import re
from functools import lru_cache

from hot_anvil.core.arch.costs import Cost, Costs

_ROWS = (
    (1, "add|adc|sub|subi|sbci?|andi?|ori?|eor|com|neg|[sc]br|inc|dec|tst|clr|ser|cpc?|cpi|mov|movw"
        "|ldi|swap|asr|ls[lr]|ro[lr]|bst|bld|in|out|nop|wdr|sleep|cli|sei|se[tzcnvsh]|cl[tzcnvsh]"
        "|bset|bclr"),
    (2, "adiw|sbiw|f?muls?u?|ldd?|lds|std?|sts|push|pop|[sc]bi|rjmp|ijmp"),
    (3, "e?lpm|jmp|rcall|icall"),
    (4, "call|reti?"),
)  # fmt: skip
_FIXED = tuple((cycles, re.compile(pattern)) for cycles, pattern in _ROWS)
_BRANCH = re.compile(r"br[a-z]{2,3}")
_SKIP = re.compile(r"cpse|sbr[cs]|sbi[cs]")


@lru_cache(maxsize=4096)
def cost(mnemonic: str, operands: tuple[str, ...], size: int) -> Cost | None:
    """Return the cycles of an instruction; they go by its name alone."""
    if _BRANCH.fullmatch(mnemonic) and mnemonic != "break":
        return Cost(1, 2, "2 if taken")
    if _SKIP.fullmatch(mnemonic):
        return Cost(1, 3, "2 or 3 if it skips")
    known = next((n for n, pattern in _FIXED if pattern.fullmatch(mnemonic)), None)
    return Cost(known, known) if known else None


def _skipping(mnemonic: str) -> int:
    return 3 if mnemonic in ("call", "jmp", "lds", "sts") else 2  # two words, one


COSTS = Costs(cost, "ATmega and ATtiny with up to 128 KiB of code", _skipping)
