"""Results as plain data for JSON, a module for each command."""
