"""RISC-V, 32 and 64 bit."""

TARGETS = r"riscv(?:32|64)"  # how target triples start that it is for
HAS_OBJECT = True
