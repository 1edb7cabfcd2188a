"""Certificates (X.509): what the gateway reads of them, and how callers are known by them."""
