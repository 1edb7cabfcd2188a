"""What the console asks a node itself: which counters it holds, to clear one, and which answers it keeps.

A request is sealed (`core.identity.sealed_message`), in one header field. Without a true one the path is unknown to the
node, as any other that no API has.
"""

from dataclasses import asdict, dataclass
from typing import Literal

from tamarack.core.identity.sealed_message import read_message, write_message

PATH = b"/.tamarack/counters"
HEADER = b"tamarack-node-request"
LIVES_S = 10.0
MOST_BYTES = 4_000
_DOMAIN = b"node request\n"


@dataclass(frozen=True, slots=True)
class NodeRequest:
    """List the live counters that hold `search` in their id or key, clear the ones of an id and key, or list the
    answers that the policy of an id keeps, whose keys hold `search`."""

    environment: str
    at: float
    """When it was made; it is good for `LIVES_S`."""
    do: Literal["list", "clear", "kept"] = "list"
    search: str = ""
    most: int = 200
    id: str = ""
    key: str = ""


def write_request(request: NodeRequest, key: bytes) -> str:
    """A request as the value of its header field."""
    return write_message(asdict(request), key, _DOMAIN)


def read_request(value: bytes, key: bytes, environment: str, now: float) -> NodeRequest | None:
    """The request, or None where it is not one of ours, for another environment, or too old."""
    try:
        request = NodeRequest(**(read_message(value, key, MOST_BYTES, _DOMAIN) or {}))
    except TypeError:
        return None
    return request if request.environment == environment and abs(now - request.at) < LIVES_S else None
