"""32-bit ARM and Thumb."""

TARGETS = r"arm(?!64)|thumb"  # how target triples start that it is for
HAS_OBJECT = True
