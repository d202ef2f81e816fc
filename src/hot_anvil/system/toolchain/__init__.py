"""Finding compilers and their tools."""
