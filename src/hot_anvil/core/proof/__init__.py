"""Proof that the code shown is the code that runs."""
