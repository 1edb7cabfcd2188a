"""Backends of the demo that speak something of their own: a language model, and a graph."""
