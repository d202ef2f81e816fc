"""Calling an entry: generated C, and the talk with the worker."""
