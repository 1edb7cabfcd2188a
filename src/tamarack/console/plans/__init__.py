"""Products and plans."""
