"""Backends."""
