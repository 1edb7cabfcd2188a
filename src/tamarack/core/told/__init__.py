"""What is told of a call: its trace, its story, its record; and what would become of one that is not made."""
