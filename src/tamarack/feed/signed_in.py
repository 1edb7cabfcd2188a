"""Which node asks: it shows its credential as a bearer token (RFC 6750), and is told why where it is refused."""

from flask import g, request
from werkzeug.exceptions import Forbidden, Unauthorized

from tamarack.core.nodes.joining import JOIN_PREFIX, NODE_PREFIX
from tamarack.store.nodes import joining
from tamarack.store.nodes.tables import Node
from tamarack.web.application import db

LONGEST = 100


class Revoked(Forbidden):
    """The node was revoked."""

    more = {"reason": "revoked"}


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


def node() -> Node:
    """The node that asks, as it is now. Raises `Unauthorized`, or `Revoked`."""
    found = joining.signed_in(db(), shown(NODE_PREFIX))
    if found is None:
        raise Unauthorized(
            "This node's credential is not known here: it belongs to another installation, or is not whole."
        )
    if found.revoked_at is not None:
        raise Revoked(f"The node {found.name} was revoked at {found.revoked_at:%Y-%m-%d %H:%M} UTC.")
    g.node = found.name
    return found
