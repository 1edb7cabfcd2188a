"""Documents that came in: their texts, and what was read in them."""
