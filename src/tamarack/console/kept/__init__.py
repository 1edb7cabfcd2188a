"""Kept answers: what each response cache saves, what it keeps at this moment, and making it forget."""
