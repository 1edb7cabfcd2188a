"""The palette."""
