"""Figures of what was computed; each module draws one kind, none computes."""
