"""PTX."""

TARGETS = r"nvptx"  # how target triples start that it is for
HAS_OBJECT = False  # compilers write text, and nothing here makes code of it

ISA = "ptx"
