"""Compilers' own functions, for what a processor lacks or must not do in place."""

import re

from hot_anvil.core.arch import semantics as b

ATOMIC_CALL = re.compile(r"__aarch64_\w+|__atomic_\w+|__sync_\w+")
RETPOLINE = re.compile(r"__x86_(?:indirect|return)_thunk\w*|__llvm_retpoline\w*")


def helper(name: str) -> tuple[str, str] | None:
    """Return (kind, signedness) of a compiler's own arithmetic function, None for others."""
    found = _HELPER.fullmatch(name)
    if not found:
        return None
    kind = next((key for key, pattern in _HELPERS if re.match(pattern, found[1])), "")
    return (kind, "unsigned" if found[1].startswith("u") else "signed") if kind else None


_HELPER = re.compile(
    r"__(?:aeabi_|mspabi_)?((?:u?div|u?mod|[us]?mul|mpy|rem|ashl|ashr|lshr|l?mul|u?[il]?div"
    r"|f?add|f?sub|fmul|fdiv|dadd|dmul|ddiv|srl|sra|sll)\w*)"
)
_HELPERS = (
    (b.DIV, r"u?[il]?div(?!.*[sdt]f3)|u?mod|u?rem"),
    (b.FDIV, r"fdiv|ddiv|div.*[sdt]f3"),
    (b.FMUL, r"fmul|dmul|mul.*[sdt]f3"),
    (b.FADD, r"(?:f|d)?(?:add|sub)"),
    (b.MUL, r"[lus]?mul|mpy"),
    (b.SHIFT, r"ash|lsh|srl|sra|sll"),
)
