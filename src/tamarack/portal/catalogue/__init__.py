"""The catalogue and the reference: reading, trying and subscribing."""
