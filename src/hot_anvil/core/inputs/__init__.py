"""Input sets: which there are to be, their values, edges, and smaller ones."""
