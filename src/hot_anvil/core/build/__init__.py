"""Builds, and what they made, as records."""
