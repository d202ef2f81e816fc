"""Asking a compiler more about a build, in a run of its own that makes the same code."""
