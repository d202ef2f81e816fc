"""MSP430."""

TARGETS = r"msp430"  # how target triples start that it is for
HAS_OBJECT = True
