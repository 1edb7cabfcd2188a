"""The life of a version: its states, how it ends, and how the next one begins."""
