"""Thin adapters around the machine: compilers, caches, workers, the clock."""
