"""The store of a bench, and files written whole."""
