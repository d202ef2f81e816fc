"""x86-64 and i386."""

from hot_anvil.core.arch.images import ImageKind

TARGETS = r"x86_64|i[3-6]86|amd64"  # how target triples start that it is for
HAS_OBJECT = True
NEEDS_ARE_KNOWN = True  # which features of a processor its code needs

# The linker may rewrite the opcode before some places, to reach a symbol more directly.
_BEFORE = {9: 3, 41: 3, 42: 3, 20: 4, 19: 4, 22: 4}
_WIDE = dict.fromkeys((1, 24, 25, 17, 18), 8)
_FILLED = {kind: (_BEFORE.get(kind, 0), _WIDE.get(kind, 4)) for kind in (*_BEFORE, *_WIDE)}
IMAGES = (
    ImageKind(62, 64, ("qemu-x86_64", "-cpu", "max"), _FILLED),
    ImageKind(3, 32, ("qemu-i386", "-cpu", "max"), {43: (2, 4)}),
)

# Sets of instructions that processors are built to have, the oldest first; source:
# "x86-64 psABI", 1.0, table 3.1.
LEVELS = (
    "x86-64",
    "x86-64-v2",
    "x86-64-v3",
    "x86-64-v4",
)
