"""Keeping answers and giving them again: HTTP caching as a shared cache does it (RFC 9111)."""
