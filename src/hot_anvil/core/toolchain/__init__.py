"""What a compiler is, how it is called, what its messages say."""
