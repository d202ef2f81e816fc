"""x86-64 and i386."""

TARGETS = r"x86_64|i[3-6]86|amd64"  # how target triples start that it is for
HAS_OBJECT = True
