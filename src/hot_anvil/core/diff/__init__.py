"""Two pieces of code by source line: pairing, alignment, states."""
