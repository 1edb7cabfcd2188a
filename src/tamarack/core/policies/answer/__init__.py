"""Policy kinds of the stage Answer."""
