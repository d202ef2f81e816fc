"""Other machines: what each is, what it is handed, and the engine that joins them."""
