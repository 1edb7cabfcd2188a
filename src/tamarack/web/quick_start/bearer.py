"""What nodes, and machines that are to become one, show: a bearer token (RFC 6750) of a known beginning."""

from flask import request
from werkzeug.exceptions import Unauthorized

from tamarack.core.nodes.joining import JOIN_PREFIX

LONGEST = 100


def shown(prefix: str) -> str:
    """The bearer token that a request shows, where it begins as asked; else the request is refused."""
    scheme, _, value = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() != "bearer" or not value.startswith(prefix) or len(value) > LONGEST:
        raise Unauthorized(
            "Show a join token (it begins with tmj_) as Authorization: Bearer."
            if prefix == JOIN_PREFIX
            else "Show the node's credential (it begins with tmn_) as Authorization: Bearer."
        )
    return value
