"""Review, rollouts and nodes."""
