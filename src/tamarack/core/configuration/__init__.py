"""What is drafted, reviewed, rolled out and written to files, and what follows from it."""
