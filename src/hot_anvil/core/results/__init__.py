"""What use cases give to be shown."""
