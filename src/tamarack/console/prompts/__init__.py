"""Prompts and answers that a policy keeps: read, and deleted."""
