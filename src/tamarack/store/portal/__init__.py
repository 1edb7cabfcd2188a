"""What the portal needs: its look, pictures, notices, and its search."""
