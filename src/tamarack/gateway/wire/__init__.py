"""The node's side towards callers: connections, what is read from them, and how much of it."""
