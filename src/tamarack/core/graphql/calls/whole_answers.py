"""What asking for answers, and changing them, has in common where they are read whole."""

LARGEST = 4_000_000
"""Bytes of an answer that is read whole."""
NEGOTIATED = frozenset((b"accept-encoding", b"range", b"if-range", b"if-none-match", b"if-modified-since"))
"""Fields of a request by which an answer would come in part, packed, or not at all."""
OF_THE_BYTES = frozenset((b"content-length", b"etag", b"last-modified", b"content-md5", b"digest", b"content-digest"))
"""Fields of an answer that speak of its bytes as they came."""
WITHOUT_BODY = frozenset((204, 304))
"""Statuses of answers that have no body (RFC 9110, 15.3.5 and 15.4.5)."""
