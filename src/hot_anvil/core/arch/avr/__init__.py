"""AVR."""

TARGETS = r"avr"  # how target triples start that it is for
HAS_OBJECT = True
