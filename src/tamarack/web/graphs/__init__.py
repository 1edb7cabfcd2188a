"""What pages of the console and the portal share about graphs."""
