"""Timing, counting and sampling on this machine."""
