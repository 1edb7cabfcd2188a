"""Rollouts and nodes: the tables, sending them, and what a limit would do to real traffic."""
