"""Environments: the rows, making and ordering them, what removing one ends, and where callers reach one."""
