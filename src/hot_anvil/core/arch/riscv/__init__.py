"""RISC-V, 32 and 64 bit."""

from hot_anvil.core.arch.images import ImageKind

TARGETS = r"riscv(?:32|64)"  # how target triples start that it is for
HAS_OBJECT = True

_FILLED = {2: (0, 8), 18: (0, 8), 19: (0, 8), 44: (0, 2), 45: (0, 2)}
IMAGES = (
    ImageKind(243, 64, ("qemu-riscv64",), _FILLED, ("-Wl,--no-relax",)),
    ImageKind(243, 32, ("qemu-riscv32",), _FILLED, ("-Wl,--no-relax",)),
)
