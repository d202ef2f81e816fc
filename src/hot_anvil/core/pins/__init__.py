"""What the pins of a chip did: recorded by a simulator, or by an instrument."""
