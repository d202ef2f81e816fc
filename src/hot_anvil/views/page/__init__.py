"""The page: one HTML file that holds all it shows and asks nothing of a network."""
