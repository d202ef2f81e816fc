"""Assembly read into records, and listed by source line."""
