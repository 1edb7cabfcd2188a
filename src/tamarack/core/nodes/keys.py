"""The keys that a node holds.

All nodes share the pepper, for each has to know a caller by what it shows. What a node signs or opens otherwise is its
own: with what one of them holds, nobody can speak to another, or open what is sealed for another.
"""

from hashlib import blake2b
from typing import NamedTuple


class NodeKeys(NamedTuple):
    """A node's keys, 32 bytes each."""

    pepper: bytes
    """Hashes credentials."""
    sealing: bytes
    """Opens the secrets that the feed brings."""
    asking: bytes
    """What the console signs its tickets and requests to this node with."""


def asking_key(bench: bytes, node: str) -> bytes:
    """A node's own key for tickets and requests, made from the installation's (BLAKE2b, RFC 7693)."""
    return _derived(bench, b"asking", node)


def sealing_key(sealing: bytes, node: str) -> bytes:
    """The key by which secrets are sealed for one joined node, made from the installation's."""
    return _derived(sealing, b"sealing", node)


def _derived(key: bytes, purpose: bytes, node: str) -> bytes:
    return blake2b(node.encode(), key=key, person=purpose, digest_size=32).digest()
