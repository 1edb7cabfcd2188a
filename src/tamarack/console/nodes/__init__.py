"""Nodes: which there are, how they stand, what they are asked to do, and how others join."""
