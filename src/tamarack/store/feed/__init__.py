"""The feed: what nodes need to know besides rollouts, and waking them."""
