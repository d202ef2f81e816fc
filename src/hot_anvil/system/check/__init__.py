"""Running candidates on input sets, and what is worked out of failing ones."""
