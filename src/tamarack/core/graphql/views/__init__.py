"""Documents published as REST operations."""
