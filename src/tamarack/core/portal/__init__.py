"""What the portal is made of besides pages: its look, and words to search."""
