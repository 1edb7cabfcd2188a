"""Signing up, and the team."""
