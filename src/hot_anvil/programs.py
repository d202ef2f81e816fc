"""The workshop's checking of whole programs."""
