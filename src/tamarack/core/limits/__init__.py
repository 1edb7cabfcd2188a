"""Limits: algorithms on a counter-store interface. The time is always passed in."""
