"""Environments: what they are, where a configuration names them, and how one's configuration comes to the next."""
