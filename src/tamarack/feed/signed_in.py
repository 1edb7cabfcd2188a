"""Which node asks: it shows its credential as a bearer token (RFC 6750), and is told why where it is refused."""

from flask import g
from werkzeug.exceptions import Forbidden, Unauthorized

from tamarack.core.nodes.joining import NODE_PREFIX
from tamarack.store.nodes import joining
from tamarack.store.nodes.tables import Node
from tamarack.web.application import db
from tamarack.web.quick_start.bearer import shown


class Revoked(Forbidden):
    """The node was revoked."""

    more = {"reason": "revoked"}


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
