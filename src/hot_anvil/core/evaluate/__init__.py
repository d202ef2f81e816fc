"""What code computes, found by computing: pieces of code run on many states at once."""
