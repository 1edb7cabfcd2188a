"""Calls to language models: how they are read, what they may cost, and what they took."""
