"""The feed that a node follows: one contract, spoken with a database near by or over HTTP from far away."""
