"""Files to hand over: the table, and what goes into them."""
