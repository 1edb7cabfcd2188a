"""Saved calls of the bench."""
