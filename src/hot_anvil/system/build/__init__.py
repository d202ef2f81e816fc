"""Compiling, linking, reading back and proving."""
