"""Which builds may be timed in one process.

Each is loaded as a library with variables of its own, so only what reaches
beyond them is shared: the heap, files, the locale, threads, signals. A build
that calls anything but the plain functions named here gets its own process.
"""

import re
from collections.abc import Iterable

_MEMORY = r"(mem(cpy|move|set|cmp|chr|rchr|mem|pcpy)|b(cmp|zero|copy))"
_STRINGS = r"(str(n?(len|cpy|cat|cmp|casecmp)|r?chr|c?spn|pbrk|str|chrnul)|stpn?cpy|rawmemchr)"
_NUMBERS = r"(l?l?abs|l?l?div|ato[ifl]l?|qsort|bsearch|is(al|di|alnu|spa|up|low|xdi|pun|pri)\w+|" \
    r"to(upper|lower))"  # fmt: skip
_FLOATS = (
    r"((a?(sin|cos|tan)h?|sincos|atan2|exp(2|10|m1)?|log(2|10|1p|b)?|pow|sqrt|cbrt|hypot|erfc?|"
    r"f?mod[f]?|remainder|floor|ceil|trunc|rint|nearbyint|l?l?rint|l?l?round|round|roundeven|fabs|"
    r"fma|fmin|fmax|fdim|ldexp|frexp|scalbl?n|copysign|nan|nextafter)[fl]?)"
)
_COMPILERS = (
    r"(_GLOBAL_OFFSET_TABLE_|__stack_chk_fail|__\w+_chk|__\w+_finite|_ZGV\w+|"
    r"__(add|sub|mul|div|mod|udiv|umod|divmod|udivmod|ashl|ashr|lshr|neg|fix|float|ext|trunc|"
    r"pow|popcount|clz|ctz|ffs|parity|cmp|eq|ne|lt|le|gt|ge|unord)\w*(ti|tf|hf|xf|tc|xc|sc|dc|"
    r"di|si|sf|df)\w*|__cpu_(model|indicator_init|features2)|__gmon_start__|"
    r"_ITM_(de)?registerTMCloneTable|__cxa_finalize|_Unwind_Resume|__g\w+_personality_v0)"
)
_PLAIN = re.compile(f"({_MEMORY}|{_STRINGS}|{_NUMBERS}|{_FLOATS}|{_COMPILERS})(@.*)?")


def reaches(undefined: Iterable[str]) -> str:
    """Return the first symbol a library takes from others that may reach shared state, or ""."""
    return next((name for name in sorted(undefined) if not _PLAIN.fullmatch(name)), "")
