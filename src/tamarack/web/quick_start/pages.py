"""What the quick start fetches. The package and its list are the same for everybody; the script holds a join token, so
whoever asks for it shows that.
"""

from hashlib import sha256
from pathlib import Path
from shlex import quote

from flask import Blueprint, Response, abort, current_app

from tamarack.core.nodes.joining import JOIN_PREFIX, CannotJoin
from tamarack.store.nodes import joining
from tamarack.web.application import db, settings_of
from tamarack.web.quick_start.bearer import shown
from tamarack.web.quick_start.packages import node_lock
from tamarack.web.quick_start.script import script
from tamarack.web.quick_start.wheel import WHEEL, node_wheel

SHELL = "text/x-shellscript; charset=utf-8"

pages = Blueprint("quick_start", __name__, url_prefix="/quick-start")


@pages.get(f"/{WHEEL}")
def wheel() -> Response:
    """The node's package."""
    return Response(node_wheel(), content_type="application/zip")


@pages.get("/requirements.txt")
def requirements() -> Response:
    """The packages that it needs, each with its version and digests."""
    return Response(node_lock(), content_type="text/plain; charset=utf-8")


@pages.get("/authority.pem")
def authority() -> Response:
    """The certificates by which the feed proves who it is, where its authority is one's own."""
    named = settings_of(current_app).feed_ca
    if not named:
        abort(404, "The feed's certificate is signed by an authority that every machine knows.")
    return Response(Path(named).read_bytes(), content_type="application/x-pem-file")


@pages.get("/node.sh")
def node_script() -> Response:
    """The script for one join. What goes wrong is a script too, which says so: it is mostly piped into a shell."""
    token = shown(JOIN_PREFIX)
    try:
        row = joining.find_token(db(), token)
        if row.used_at is not None:
            raise joining.used(row)
        joining.tell_step(db(), token, "fetched")
    except CannotJoin as error:
        return Response(f"echo {quote(str(error))} >&2\nexit 1\n", content_type=SHELL)
    db().commit()
    digest = sha256(node_wheel()).hexdigest()
    settings = settings_of(current_app)
    ca = Path(settings.feed_ca).read_text() if settings.feed_ca else ""
    text = script(settings.feed_url, token, WHEEL, digest, ca)
    return Response(text, content_type=SHELL)
