"""The secret store: the table, and setting, rotating and removing."""
