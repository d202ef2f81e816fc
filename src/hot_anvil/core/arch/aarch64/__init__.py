"""AArch64."""

from hot_anvil.core.arch.images import ImageKind

TARGETS = r"aarch64|arm64"  # how target triples start that it is for
HAS_OBJECT = True

IMAGES = (ImageKind(183, 64, ("qemu-aarch64", "-cpu", "max"), {257: (0, 8)}),)
