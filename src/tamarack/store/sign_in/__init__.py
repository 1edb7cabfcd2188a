"""What the sign-in service keeps: directories, end users, clients, and what was granted. No token is kept in clear."""
