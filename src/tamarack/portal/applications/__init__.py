"""Applications: credentials, sharing, usage."""
