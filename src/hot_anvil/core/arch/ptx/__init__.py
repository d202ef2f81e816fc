"""PTX."""

TARGETS = r"nvptx"  # how target triples start that it is for
