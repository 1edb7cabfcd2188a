"""Counters that all nodes share."""
