"""What HTTP and browsers ask of a gateway: addresses, origins, paths, heads, and header fields."""
