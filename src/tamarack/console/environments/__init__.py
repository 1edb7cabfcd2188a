"""Environments: the track that a change takes, what one is, comparing two, and removing one."""
