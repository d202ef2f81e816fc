"""One model of a function: control flow, loops, calls, vectors, accesses."""
