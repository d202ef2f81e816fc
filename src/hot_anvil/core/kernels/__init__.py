"""Kernels as they were launched: what is told of them."""
