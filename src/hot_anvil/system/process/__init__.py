"""Processes, threads and their limits."""
