"""The feed program: what nodes that have no database follow over HTTP, hand their records to, and join at."""
