"""AVR."""

TARGETS = r"avr"  # how target triples start that it is for
