"""What the console asks a node itself: which counters it holds, and to clear one.

A request is JSON in base64url with its HMAC-SHA256 (RFC 2104), in one header field. Without a true one the path
is unknown to the node, as any other that no API has.
"""

import hmac
from base64 import urlsafe_b64decode, urlsafe_b64encode
from dataclasses import asdict, dataclass
from hashlib import sha256
from typing import Literal

import orjson

PATH = b"/.tamarack/counters"
HEADER = b"tamarack-node-request"
LIVES_S = 10.0
MOST_BYTES = 4_000
_DOMAIN = b"node request\n"


@dataclass(frozen=True, slots=True)
class NodeRequest:
    """List the live counters that hold `search` in their id or key, or clear the ones of an id and key."""

    environment: str
    at: float
    """When it was made; it is good for `LIVES_S`."""
    do: Literal["list", "clear"] = "list"
    search: str = ""
    most: int = 200
    id: str = ""
    key: str = ""


def write_request(request: NodeRequest, key: bytes) -> str:
    """A request as the value of its header field."""
    body = urlsafe_b64encode(orjson.dumps(asdict(request)))
    return (body + b"." + urlsafe_b64encode(_seal(body, key))).decode()


def read_request(value: bytes, key: bytes, environment: str, now: float) -> NodeRequest | None:
    """The request, or None where it is not one of ours, for another environment, or too old."""
    body, dot, seal = value.partition(b".")
    if not dot or len(value) > MOST_BYTES:
        return None
    try:
        if not hmac.compare_digest(urlsafe_b64decode(seal), _seal(body, key)):
            return None
        request = NodeRequest(**orjson.loads(urlsafe_b64decode(body)))
    except (ValueError, TypeError):
        return None
    return request if request.environment == environment and abs(now - request.at) < LIVES_S else None


def _seal(body: bytes, key: bytes) -> bytes:
    return hmac.new(key, _DOMAIN + body, sha256).digest()
