"""Values of a call: conditions on them, and texts that they are put into."""
