"""What builds' flags stand for, and which of them make a difference."""
