"""OpenAPI documents: read and checked, brought to 3.x, and laid out for readers."""
