"""Signing keys, and key sets of outside issuers."""
