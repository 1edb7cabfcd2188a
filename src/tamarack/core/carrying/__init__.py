"""A call on its way: what it is, the program that carries it, and what is told of it."""
