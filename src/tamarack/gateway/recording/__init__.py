"""What a node records of calls, and counts beside them: written in batches to its spool folder."""
