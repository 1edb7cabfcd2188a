"""The answers that a node keeps, in its memory or shared by all nodes, and asking for them anew."""
