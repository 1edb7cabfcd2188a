"""What people write as YAML or JSON: read within bounds, with the line of every value, and written so that it stays."""
