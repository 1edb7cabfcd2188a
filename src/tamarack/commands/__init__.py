"""Groups of commands, each in a module of its own."""
