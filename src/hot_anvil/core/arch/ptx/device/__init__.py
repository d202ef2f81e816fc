"""A small device, simulated: it runs kernels as PTX says, and counts. It has no time."""
