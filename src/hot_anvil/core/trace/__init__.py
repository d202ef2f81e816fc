"""Calls stepped through: what each instruction changed, by source line and variable."""
