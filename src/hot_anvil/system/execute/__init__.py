"""Running what was built."""
