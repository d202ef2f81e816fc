"""The command line: wiring only."""
