"""The configuration as files: written, read with the line of every problem, and applied to the draft."""
