"""What is closed of a graph, and comes back null."""
