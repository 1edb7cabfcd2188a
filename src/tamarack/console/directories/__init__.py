"""Directories of end users, and the users in them."""
