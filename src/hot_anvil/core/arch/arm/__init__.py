"""32-bit ARM and Thumb."""

from hot_anvil.core.arch.images import ImageKind

TARGETS = r"arm(?!64)|thumb"  # how target triples start that it is for
HAS_OBJECT = True

IMAGES = (ImageKind(40, 32, ("qemu-arm", "-cpu", "max"), {102: (0, 2), 103: (0, 2)}, (), True),)
