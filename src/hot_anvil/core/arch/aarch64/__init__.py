"""AArch64."""

TARGETS = r"aarch64|arm64"  # how target triples start that it is for
HAS_OBJECT = True
