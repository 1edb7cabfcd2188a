"""Kinds of On error: how refusals and failures are answered."""
