"""aarch64."""
