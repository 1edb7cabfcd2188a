"""Review, and rollouts."""
