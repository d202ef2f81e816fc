"""Opening benches, settings, examples."""
