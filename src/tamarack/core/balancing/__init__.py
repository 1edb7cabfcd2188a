"""Which target of a backend a call goes to, and which of them are to be spared (RFC 2782 for priority and weight)."""
