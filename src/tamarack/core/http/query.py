"""Query strings and form posts, byte for byte (URL standard, section 5.1)."""

from collections.abc import Iterable
from urllib.parse import unquote_to_bytes


def name_of(part: bytes) -> bytes:
    """The decoded name in one `name=value` of a query string."""
    name = part.partition(b"=")[0].replace(b"+", b" ")
    return unquote_to_bytes(name) if b"%" in name else name


def by_name(parts: Iterable[bytes]) -> bytes:
    """Pairs in the order of their names; those of one name keep theirs."""
    pairs: list[bytes] = list(parts)
    return b"&".join(sorted(pairs, key=lambda part: name_of(bytes(part))))


def in_pairs(pairs: bytes, name: bytes) -> list[bytes]:
    """The values of a name in a query string or a form's body (URL standard, section 5.1)."""
    return [
        unquote_to_bytes(part.partition(b"=")[2].replace(b"+", b" "))
        for part in pairs.split(b"&")
        if name_of(part) == name
    ]


def without_query(query: bytes, name: bytes) -> bytes:
    """The query string without a parameter, the rest byte for byte as it was."""
    return b"&".join(part for part in query.split(b"&") if name_of(part) != name)
