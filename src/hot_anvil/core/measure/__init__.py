"""Measurements, statistics, the words for ratios, choosing."""
