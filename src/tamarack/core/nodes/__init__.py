"""Nodes: how they join, what they and the control side tell each other, and what they are asked to do."""
