"""What passes that descriptions do not know, as the nodes counted it."""
