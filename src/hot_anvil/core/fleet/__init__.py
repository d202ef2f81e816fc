"""Many machines: which may be compared, and what one build is worth on all of them."""
