"""Results as text, a module for each command."""
