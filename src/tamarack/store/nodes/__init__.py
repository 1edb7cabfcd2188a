"""Gateway nodes: what they say of themselves, what they are asked to do, and how they join."""
