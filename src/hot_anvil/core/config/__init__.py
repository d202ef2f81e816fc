"""The bench file: its records, and reading it with every mistake named."""
