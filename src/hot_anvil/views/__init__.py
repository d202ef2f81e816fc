"""From results to what people see; nothing here writes anywhere."""
