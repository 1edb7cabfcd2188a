"""Policy kinds of the stage Forward."""
