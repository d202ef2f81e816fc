"""AArch64."""

from hot_anvil.core.arch.images import ImageKind

TARGETS = r"aarch64|arm64"  # how target triples start that it is for
HAS_OBJECT = True
NEEDS_ARE_KNOWN = True  # which features of a processor its code needs

IMAGES = (ImageKind(183, 64, ("qemu-aarch64", "-cpu", "max"), {257: (0, 8)}),)

# Sets of instructions that processors are built to have, the oldest first; source:
# "Arm Architecture Reference Manual", part A2.
LEVELS = (
    "armv8-a",
    "armv8.1-a",
    "armv8.2-a",
    "armv8.3-a",
    "armv8.4-a",
    "armv8.5-a",
    "armv8.6-a",
)
