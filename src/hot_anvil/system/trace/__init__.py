"""Calls stepped through on this machine, under emulators, in simulators of chips."""
