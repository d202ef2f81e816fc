"""Experiments: flags and edits that are tried by the tool itself, and what each rests on."""
