"""The start command: brings up the database, the demo and every program, and keeps them up."""
