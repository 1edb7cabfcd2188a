"""The draft: its rows, reading and editing it, and the documents it holds."""
