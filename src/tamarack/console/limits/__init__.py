"""Limits: all with their layers, live counters, and trying one."""
