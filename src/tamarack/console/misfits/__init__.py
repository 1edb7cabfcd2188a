"""What passes that descriptions do not know."""
