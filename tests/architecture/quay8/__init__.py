"""quay8, a made-up instruction set of one gauge's chip."""

TARGETS = r"quay8"  # how target triples start that it is for
HAS_OBJECT = True
