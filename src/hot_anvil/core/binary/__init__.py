"""Objects and images: symbols, source lines, inlined calls, types, variables, frames."""
